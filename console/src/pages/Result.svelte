<script lang="ts">
  import { tick } from "svelte";
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
  import SinceLastRun from "../components/SinceLastRun.svelte";
  import TimeBand from "../components/TimeBand.svelte";
  import { saidOf, say } from "../lib/address";
  import { marksOf, type Mark } from "../lib/marks";
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
  let marks = $state.raw<Mark[]>([]);
  let at = $state(Number(saidOf("at")) || 0); // the step that board and charts show
  let node = $state(saidOf("node")); // of which alone the charts tell

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

  // Once it stays: a run that is played back passes many moments a second.
  $effect(() => {
    const read = { at: at ? String(at) : "", node };
    const timer = setTimeout(() => say(read), 250);
    return () => clearTimeout(timer);
  });
  $effect(() => {
    const shown = result;
    if (!shown) return;
    api
      .GET("/api/v1/workspaces/{workspace}/runs/{id}/scenario", {
        params: { path: { workspace: currentWorkspace(), id } },
      })
      .then(({ data }) => (marks = data ? marksOf(data.text, shown) : []));
  });

  // The sections of a result; the address keeps which one is read.
  const sections = $derived([
    ["verdict", "Verdict"],
    ["ledger", "Ledger"],
    ["flow", "Flow"],
    ["timeline", "Timeline"],
    ["nodes", "Nodes"],
    ...(Object.keys(result?.latency ?? {}).length ? [["latency", "Latency"]] : []),
    ["journeys", "Journeys"],
    ...(result?.cost ? [["cost", "Cost"]] : []),
  ]);
  let page = $state<HTMLElement>();
  let read = $state("verdict"); // the section at the top of the window
  function go(section: string, e?: MouseEvent) {
    e?.preventDefault();
    e?.stopPropagation(); // the router would take it for another page
    const to = page?.querySelector(`#${section}`);
    if (!page || !to) return;
    page.scrollTop +=
      to.getBoundingClientRect().top - page.getBoundingClientRect().top - (page.clientWidth < 900 ? 56 : 16);
    history.replaceState(history.state, "", `${location.pathname}${location.search}#${section}`);
  }
  function reading() {
    const top = (page?.getBoundingClientRect().top ?? 0) + 120;
    const passed = [...(page?.querySelectorAll("section[id]") ?? [])].filter(
      (s) => s.getBoundingClientRect().top < top,
    );
    const atEnd = page && page.scrollTop + page.clientHeight >= page.scrollHeight - 4;
    read = atEnd ? sections[sections.length - 1][0] : (passed.at(-1)?.id ?? "verdict");
  }
  $effect(() => {
    const section = location.hash.slice(1);
    if (result && sections.some(([key]) => key === section)) tick().then(() => go(section));
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

  const latencyRows = $derived(
    Object.entries(result?.latency ?? {}).map(([path, l]) => ({
      id: path,
      path: path.replace(":", " → "),
      count: l.count,
      mean: l.mean_s,
      p50: l.p50_s,
      p90: l.p90_s,
      p99: l.p99_s,
      max: l.max_s,
    })),
  );
  const latencyHeaders = [
    { key: "path", value: "From and to" },
    { key: "count", value: "Messages" },
    { key: "mean", value: "Mean" },
    { key: "p50", value: "p50" },
    { key: "p90", value: "p90" },
    { key: "p99", value: "p99" },
    { key: "max", value: "Longest" },
  ] as const;
  const money = (x: number, currency: string) =>
    x.toLocaleString(undefined, { style: "currency", currency, maximumSignificantDigits: 3 });

  const started = $derived(result ? when(result.start) : "");
  const expected = $derived(Object.entries(result?.expect ?? {}));
  const kept = $derived(expected.filter(([, x]) => x.holds).length);
  let journeys = $state<ReturnType<typeof Journeys>>();
  const under = $derived(status === "queued" || status === "running");
</script>

<svelte:head><title>Run {id} · Iron Weir</title></svelte:head>

<div class="page" id="main-content" bind:this={page} onscroll={reading}>
  {#if run}
    <div class="top">
      <h1>
        {#if visitor.user?.share}{run.model}{:else}<a
            href={p("/w/:workspace/models/:name", { params: { workspace: currentWorkspace(), name: run.model } })}
            >{run.model}</a
          >{/if}
        under {run.scenario}
      </h1>
      <StateTag
        state={status}
        unmet={result && expected.length ? expected.length - kept : null}
        expected={expected.length}
      />
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

    {#if replications > 1}
      <Select size="sm" inline labelText="Counts" bind:selected={base}>
        <SelectItem value="run" text="means of one replication" />
        <SelectItem value="sum" text="sums of all {replications} replications" />
      </Select>
    {/if}
    <div class="sectioned">
      <nav class="sections" aria-label="Sections">
        {#each sections as [key, title] (key)}
          <a href="#{key}" aria-current={read === key ? "location" : undefined} onclick={(e) => go(key, e)}>{title}</a>
        {/each}
      </nav>
      <div class="all">
        <section id="verdict" aria-label="Verdict">
          <h2>Verdict</h2>
          {#if expected.length}
            <p class="held">
              <b class:fails={kept < expected.length}
                >{kept === expected.length ? "✓" : "✗"}
                {kept} of {expected.length}
                {expected.length === 1 ? "expectation holds" : "expectations hold"}</b
              >
            </p>
            <ul class="expect">
              {#each expected as [name, x] (name)}
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
          {:else}<p class="quiet">The scenario expects nothing.</p>{/if}
          {#if run}<SinceLastRun {run} />{/if}
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
          {#if Object.keys(result.alarms).length}
            <h3>Alarms</h3>
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
        </section>

        <section id="ledger" aria-label="Ledger">
          <h2>Where every message went</h2>
          <Ledger
            ledger={result.ledger}
            {over}
            spreads={over > 1 ? result.per_replication : undefined}
            onpick={(fate) => journeys?.behind(fate)}
          />
        </section>

        <section id="flow" aria-label="Flow">
          <h2>Flow</h2>
          <FlowPicture {result} {over} />
          <p class="quiet">
            {counted(result.journeys.count, over)} journeys: {counted(result.journeys.complete, over)} complete, {counted(
              result.journeys.failed,
              over,
            )} failed, {counted(result.journeys.in_flight, over)} in flight.
          </p>
        </section>

        <section id="timeline" aria-label="Timeline">
          <h2>Over time</h2>
          {#if result.series}
            <p class="quiet">
              {base === "run" ? "The mean" : "The sum"} of the replications, in steps of {duration(
                result.series.step_s,
              )}{node ? ` at ${node}` : "; the six nodes with most"}, times in {zone.name}. Press a moment to see it on
              the board, a loss to read its journeys{node ? "" : ", a node of the board to see it alone"}.
              {#if node}<button class="plain as-link" onclick={() => (node = "")}>Show all nodes</button>{/if}
            </p>
            <TimeBand
              {result}
              {marks}
              {node}
              {times}
              bind:at
              onloss={(from, until, lossy) => journeys?.behind("lost-", lossy, { from, until })}
            />
          {:else}
            <p class="quiet">Nothing of this happened.</p>
          {/if}
          {#if result.series && run}
            <h3>On the board</h3>
            <Replay model={run.model} revision={run.revision} {result} {times} {marks} bind:at bind:chosen={node} />
          {/if}
        </section>

        <section id="nodes" aria-label="Nodes">
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
        </section>

        {#if Object.keys(result.latency).length}
          <section id="latency" aria-label="Latency">
            <h2>Latency</h2>
            <p class="quiet">From the arrival of a message at the first node to its handling at the second.</p>
            <DataTable size="compact" sortable rows={latencyRows} headers={latencyHeaders}>
              <svelte:fragment slot="cell" let:cell>
                {#if cell.key === "path"}{cell.value}{:else}<span class="num"
                    >{cell.key === "count" ? counted(cell.value, over) : duration(cell.value)}</span
                  >{/if}
              </svelte:fragment>
            </DataTable>
          </section>
        {/if}

        <section id="journeys" aria-label="Journeys and stored messages">
          <h2>Journeys</h2>
          <Journeys bind:this={journeys} run={id} nodes={Object.keys(result.nodes)} {marks} />

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
        </section>

        {#if result.cost}
          {@const cost = result.cost}
          <section id="cost" aria-label="Cost">
            <h2>Cost</h2>
            <p>
              {money(cost.total, cost.currency)} for one replication; at this rate {money(cost.month, cost.currency)} a month.
            </p>
            <table class="costs">
              <tbody>
                {#each Object.entries(cost.nodes)
                  .filter(([, x]) => x > 0)
                  .sort(([, a], [, b]) => b - a) as [name, x] (name)}
                  <tr><th scope="row">{name}</th><td class="num">{money(x, cost.currency)}</td></tr>
                {/each}
              </tbody>
            </table>
          </section>
        {/if}
      </div>
    </div>
  {/if}
</div>

<style>
  .page :global(td) {
    white-space: nowrap;
  }
  .sectioned {
    display: grid;
    grid-template-columns: 7rem minmax(0, 1fr);
    gap: 1.5rem;
    align-items: start;
  }
  .sections {
    position: sticky;
    top: 0;
    display: grid;
    padding-top: 1.75rem;
    font-size: 0.875rem;
  }
  .sections a {
    min-height: 1.75rem;
    padding: 0.25rem 0.75rem;
    border-left: 3px solid var(--cds-ui-03);
    color: var(--cds-text-02);
    text-decoration: none;
  }
  .sections a[aria-current] {
    border-color: var(--cds-interactive-01);
    color: var(--cds-text-01);
  }
  .all h3 {
    font-size: 1rem;
    margin: 1rem 0 0.25rem;
  }
  .costs th {
    font-weight: 400;
    text-align: left;
    padding: 0.125rem 2rem 0.125rem 0;
  }
  @media (max-width: 900px) {
    .sectioned {
      grid-template-columns: minmax(0, 1fr);
      gap: 0;
    }
    .sections {
      top: -1rem; /* over what passes in the padding of the page */
      z-index: 30;
      display: flex;
      overflow-x: auto;
      padding-top: 0;
      background: var(--cds-ui-background);
    }
    .sections a {
      border-left: none;
      border-bottom: 3px solid var(--cds-ui-03);
    }
  }
  @media print {
    .sectioned {
      display: block;
    }
    .sections {
      display: none;
    }
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
    color: var(--fails);
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
    color: var(--fails);
  }
</style>
