<script lang="ts">
  import {
    Button,
    DataTable,
    InlineNotification,
    ProgressBar,
    Select,
    SelectItem,
    Toolbar,
    ToolbarContent,
    ToolbarSearch,
  } from "carbon-components-svelte";
  import Download from "carbon-icons-svelte/lib/Download.svelte";
  import Stop from "carbon-icons-svelte/lib/StopOutline.svelte";
  import { api, sentence, type Result, type Schemas } from "../lib/api";
  import { currentWorkspace, visitor } from "../lib/workspace.svelte";
  import { zone } from "../lib/zone.svelte";
  import { count, counted, duration, share, when } from "../lib/format";
  import StoredMessages from "../components/StoredMessages.svelte";
  import Journeys from "../components/Journeys.svelte";
  import FlowPicture from "../components/FlowPicture.svelte";
  import Ledger from "../components/Ledger.svelte";
  import SensitivityResult from "../components/SensitivityResult.svelte";
  import ShareLink from "../components/ShareLink.svelte";
  import StateTag from "../components/StateTag.svelte";
  import Replay from "../components/Replay.svelte";
  import SweepResult from "../components/SweepResult.svelte";
  import VariantsResult from "../components/VariantsResult.svelte";
  import TimeChart from "../components/TimeChart.svelte";
  import { p, route } from "../router";

  const id = Number(route.getParams("/w/:workspace/runs/:id").id);

  let run = $state.raw<Schemas["Run"] | undefined>();
  let result = $state.raw<Result | undefined>();
  let variants = $state.raw<Schemas["RunVariants"] | undefined>();
  let sweep = $state.raw<Schemas["RunSweep"] | undefined>();
  let guesses = $state.raw<Schemas["SensitivityDocument"] | undefined>();
  let trouble = $state("");
  let progress = $state(0);
  let soFar = $state.raw({ entered: 0, lost: 0, parked: 0 });
  let left = $state(0);
  let status = $state("");
  let measure = $state("depth");

  async function load() {
    const { data, error } = await api.GET("/api/v1/workspaces/{workspace}/runs/{id}", {
      params: { path: { workspace: currentWorkspace(), id } },
    });
    if (error) {
      trouble = sentence(error);
      return;
    }
    run = data;
    status = data.state;
    if (["done", "cancelled"].includes(status)) await fetchResult();
    else if (status === "failed") trouble = data.error ?? "The run failed.";
    else follow();
  }

  async function fetchResult() {
    const params = { path: { workspace: currentWorkspace(), id } };
    let error: unknown;
    if (run?.kind === "variants")
      ({ data: variants, error } = await api.GET("/api/v1/workspaces/{workspace}/runs/{id}/variants", { params }));
    else if (run?.kind === "sweep")
      ({ data: sweep, error } = await api.GET("/api/v1/workspaces/{workspace}/runs/{id}/sweep", { params }));
    else if (run?.kind === "sensitivity")
      ({ data: guesses, error } = await api.GET("/api/v1/workspaces/{workspace}/runs/{id}/sensitivity", { params }));
    else ({ data: result, error } = await api.GET("/api/v1/workspaces/{workspace}/runs/{id}/result", { params }));
    if (error && status === "done") trouble = sentence(error);
  }

  let events: EventSource | undefined;
  function follow() {
    events = new EventSource(`/api/v1/workspaces/${currentWorkspace()}/runs/${id}/events`);
    events.addEventListener("progress", async (e) => {
      const u = JSON.parse((e as MessageEvent).data) as {
        state: string;
        progress: number;
        left_s: number;
        entered: number;
        lost: number;
        parked: number;
        error?: string;
      };
      [status, progress, left, soFar] = [u.state, u.progress, u.left_s, u];
      if (["done", "failed", "cancelled"].includes(u.state)) {
        events?.close();
        if (u.state === "failed") trouble = u.error ?? "The run failed.";
        else await fetchResult();
      }
    });
  }
  $effect(() => {
    load();
    return () => events?.close();
  });

  const cancel = () =>
    api.POST("/api/v1/workspaces/{workspace}/runs/{id}/cancel", {
      params: { path: { workspace: currentWorkspace(), id } },
    });

  const measures: Record<string, { label: string; unit: string }> = {
    depth: { label: "depth", unit: "messages held" },
    oldest_s: { label: "oldest", unit: "age of the oldest (s)" },
    runs: { label: "runs", unit: "runs a step" },
    failures: { label: "failures", unit: "failed runs a step" },
    throttled: { label: "throttled", unit: "throttles a step" },
    lost: { label: "lost", unit: "lost a step" },
  };

  // How old the oldest message is adds up to nothing.
  const summed = (values: number[]) => (measure === "oldest_s" ? values : values.map((v) => v * times));
  // The six nodes in which the most happens.
  const lines = $derived.by(() => {
    const nodes = result?.series?.nodes ?? {};
    return Object.entries(nodes)
      .map(([name, s]) => ({ name, values: (s as unknown as Record<string, number[] | null>)[measure] ?? [] }))
      .map((l) => ({ ...l, values: summed(l.values) }))
      .map((l) => ({ ...l, top: Math.max(0, ...l.values) }))
      .filter((l) => l.top > 0)
      .sort((a, b) => b.top - a.top)
      .slice(0, 6);
  });

  // Counts are the mean of the replications, or their sum: on the whole page.
  let base = $state<"run" | "sum">("run");
  const replications = $derived(result?.replications ?? 1);
  const over = $derived(base === "run" ? replications : 1);
  const times = $derived(base === "sum" ? replications : 1); // of the means over time

  const nodeRows = $derived(
    Object.entries(result?.nodes ?? {}).map(([name, n]) => ({
      id: name,
      name,
      kind: n.kind,
      copies: n.copies,
      runs: n.runs,
      failures: n.failures,
      throttled: n.throttled,
      parked: n.parked,
      lost: n.lost.total,
      utilisation: n.utilisation ?? -1,
      maxDepth: n.depth.max,
      oldest: n.oldest_s.max,
      wait: n.wait_s.count ? n.wait_s.p99 : -1,
      run: n.run_time_s.count ? n.run_time_s.p99 : -1,
    })),
  );
  const headers = [
    { key: "name", value: "Node" },
    { key: "kind", value: "Kind" },
    { key: "copies", value: "Copies" },
    { key: "runs", value: "Runs" },
    { key: "failures", value: "Failed" },
    { key: "throttled", value: "Throttled" },
    { key: "parked", value: "Parked" },
    { key: "lost", value: "Lost" },
    { key: "utilisation", value: "Utilisation" },
    { key: "maxDepth", value: "Max depth" },
    { key: "oldest", value: "Oldest" },
    { key: "run", value: "Run p99" },
  ] as const;
  function shown(key: string, v: number): string {
    if (v === -1 || v === 0) return "";
    if (key === "utilisation") return share(v);
    return ["oldest", "wait", "run"].includes(key) ? duration(v) : counted(v, key === "maxDepth" ? 1 : over);
  }

  const started = $derived(result ? when(result.start) : "");
  const expected = $derived(Object.entries(result?.expect ?? {}));
  const kept = $derived(expected.filter(([, x]) => x.holds).length);
  let journeys = $state<ReturnType<typeof Journeys>>();
  const under = $derived(status === "queued" || status === "running");
</script>

<svelte:head><title>Run {id} · Iron Weir</title></svelte:head>

<div class="page" id="main-content">
  {#if run}
    <div class="top">
      <h1>
        {#if visitor.user?.share}{run.model}{:else}<a
            href={p("/w/:workspace/models/:name", { params: { workspace: currentWorkspace(), name: run.model } })}
            >{run.model}</a
          >{/if}
        under {run.scenario}
      </h1>
      <StateTag state={status} unmet={result && expected.length ? expected.length - kept : null} />
      <span class="quiet">run {id}, revision {run.revision}{run.kind === "run" ? "" : `, ${run.kind}`}</span>
      {#if result || guesses}<Button
          size="small"
          kind="tertiary"
          icon={Download}
          href="/api/v1/workspaces/{currentWorkspace()}/runs/{id}/report">Report</Button
        >{/if}
      {#if visitor.edits && !visitor.user?.share}<ShareLink what="run" id={String(id)} about="run {id}" />{/if}
    </div>
  {/if}
  {#if trouble}
    <InlineNotification kind="error" title="No result." subtitle={trouble} hideCloseButton />
  {/if}
  {#if under}
    <ProgressBar
      value={progress * 100}
      max={100}
      labelText={status === "queued" ? "Waiting for its turn" : `Simulating: ${share(progress)}`}
      helperText={left > 0 ? `about ${duration(left)} left` : ""}
    />
    {#if soFar.entered > 0}<p class="so-far" aria-live="polite">
        <b>{count(soFar.entered)}</b> entered, <b>{count(soFar.lost)}</b> lost, <b>{count(soFar.parked)}</b> parked so far
      </p>{/if}
    {#if visitor.edits}
      <Button kind="danger-tertiary" size="small" icon={Stop} on:click={cancel} style="margin-top: 1rem">Cancel</Button>
    {/if}
  {/if}
  {#if variants}<VariantsResult result={variants} />{/if}
  {#if sweep}<SweepResult result={sweep} />{/if}
  {#if guesses}<SensitivityResult result={guesses} />{/if}
  {#if result}
    <p class="quiet">
      {duration(result.length_s)} from {started}, {result.replications}
      {result.replications === 1 ? "replication" : "replications"}, seed {result.seed}; {count(result.engine.events)} events
    </p>
    {#if result.partial}
      <InlineNotification
        kind="warning"
        lowContrast
        hideCloseButton
        title="Partial."
        subtitle="Ended after {duration(result.reached_s)} of {duration(
          result.length_s,
        )} by {result.stopped}. What follows is what it has."
      />
    {/if}

    {#if expected.length}
      <p class="held">
        <b class:fails={kept < expected.length}
          >{kept === expected.length ? "✓" : "✗"}
          {kept} of {expected.length}
          {expected.length === 1 ? "expectation holds" : "expectations hold"}</b
        >
        {#if kept < expected.length}<span class="quiet"
            >fails: {expected
              .filter(([, x]) => !x.holds)
              .map(([name]) => name)
              .join(", ")}</span
          >{/if}
      </p>
    {/if}

    {#if replications > 1}
      <Select size="sm" inline labelText="Counts" bind:selected={base}>
        <SelectItem value="run" text="means of one replication" />
        <SelectItem value="sum" text="sums of all {replications} replications" />
      </Select>
    {/if}
    <h2>Where every message went</h2>
    {#each result.loops as loop (loop.nodes.join())}
      <InlineNotification
        kind="error"
        lowContrast
        hideCloseButton
        title="A loop:"
        subtitle="{loop.nodes.join(' → ')} — {loop.rounds.mean.toFixed(1)} passes on average, {count(
          loop.rounds.max,
        )} at most{loop.grows
          ? `; it grows, from ${loop.rate[0].toPrecision(3)} to ${loop.rate[1].toPrecision(3)} a second`
          : ''}"
        style="max-width: none"
      />
    {/each}
    <Ledger
      ledger={result.ledger}
      {over}
      spreads={over > 1 ? result.per_replication : undefined}
      onpick={(fate) => journeys?.behind(fate)}
    />
    <FlowPicture {result} {over} />
    <p class="quiet">
      {counted(result.journeys.count, over)} journeys: {counted(result.journeys.complete, over)} complete, {counted(
        result.journeys.failed,
        over,
      )} failed, {counted(result.journeys.in_flight, over)} in flight.
    </p>

    {#if Object.keys(result.expect).length}
      <h2>Expectations</h2>
      <ul class="expect">
        {#each Object.entries(result.expect) as [name, x] (name)}
          <li class:fails={!x.holds} data-expect={name}>
            <b>{x.holds ? "✓ holds" : "✗ fails"}</b>
            {name} <span class="mono quiet">{x.expression}</span>
            {#if !x.holds && result.replications > 1}<span class="quiet"
                >holds in {x.holds_in} of {result.replications}</span
              >{/if}
            {#if x.error}<span class="quiet">{x.error}</span>{/if}
          </li>
        {/each}
      </ul>
    {/if}

    {#if Object.keys(result.alarms).length}
      <h2>Alarms</h2>
      {#if result.first_loss.s !== undefined}
        <p>
          The first message is lost after {duration(result.first_loss.s)};
          {result.unnoticed.s === undefined
            ? "no alarm ever says so."
            : result.unnoticed.s === 0
              ? "an alarm is on by then."
              : `no alarm says so for up to ${duration(result.unnoticed.s)}.`}
        </p>
      {/if}
      <ul class="expect">
        {#each Object.entries(result.alarms) as [name, a] (name)}
          <li>
            {name}: {a.fired
              ? `first went off after ${duration(a.first.s ?? 0)}, ${count(a.count)} times in all`
              : "stayed quiet"}
          </li>
        {/each}
      </ul>
    {/if}

    <div class="over-time">
      <h2>Over time</h2>
      <Select size="sm" inline labelText="Show" bind:selected={measure}>
        {#each Object.entries(measures) as [key, m] (key)}<SelectItem value={key} text={m.label} />{/each}
      </Select>
    </div>
    {#if lines.length && result.series}
      {#key measure}<TimeChart
          start={result.start}
          step={result.series.step_s}
          {lines}
          unit={measures[measure].unit}
        />{/key}
      <p class="quiet">
        {base === "run" || measure === "oldest_s" ? "The mean" : "The sum"} of the replications, in steps of {duration(
          result.series.step_s,
        )}; the six nodes with most, times in {zone.name}.
      </p>
    {:else}
      <p class="quiet">Nothing of this happened.</p>
    {/if}

    {#if result.series && run}
      <h2>On the board</h2>
      <Replay model={run.model} revision={run.revision} {result} {times} />
    {/if}

    <h2>Journeys</h2>
    <Journeys bind:this={journeys} run={id} nodes={Object.keys(result.nodes)} />

    <h2>What rested where, and when</h2>
    <StoredMessages
      run={id}
      nodes={Object.entries(result.nodes)
        .filter(([, n]) => n.depth.max > 0)
        .sort(([, a], [, b]) => b.depth.max - a.depth.max)
        .map(([name]) => name)}
      length={result.length_s}
      start={result.start}
    />

    <h2>Nodes</h2>
    <DataTable size="compact" sortable rows={nodeRows} {headers}>
      <Toolbar size="sm"
        ><ToolbarContent><ToolbarSearch persistent shouldFilterRows placeholder="Filter nodes" /></ToolbarContent
        ></Toolbar
      >
      <svelte:fragment slot="cell" let:row let:cell>
        {#if cell.key === "name"}<button
            class="plain behind"
            onclick={() => journeys?.behind("", cell.value)}
            title="The journeys that came here">{cell.value}</button
          >{:else if cell.key === "kind"}{cell.value}{:else if (cell.key === "lost" || cell.key === "parked") && cell.value > 0}<button
            class="plain behind num"
            onclick={() => journeys?.behind(cell.key === "lost" ? "lost-" : "parked", row.id)}
            title="The journeys behind this number">{shown(cell.key, cell.value)}</button
          >{:else}<span class="num">{shown(cell.key, cell.value)}</span>{/if}
      </svelte:fragment>
    </DataTable>
  {/if}
</div>

<style>
  .page :global(td) {
    white-space: nowrap;
  }
  .top {
    display: flex;
    align-items: center;
    gap: 0.75rem;
    margin-bottom: 0.75rem;
    flex-wrap: wrap;
  }
  .top h1 {
    margin: 0;
  }
  .held {
    margin-top: 0.5rem;
  }
  .held b {
    color: var(--fine);
  }
  .held .fails {
    color: var(--loops);
  }
  .expect li {
    padding: 0.2rem 0;
  }
  .expect b {
    color: var(--fine);
    display: inline-block;
    min-width: 5rem;
  }
  .expect .fails b {
    color: var(--loops);
  }
  .over-time {
    display: grid;
    grid-template-columns: 1fr auto;
    align-items: end;
  }
</style>
