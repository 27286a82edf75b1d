<script lang="ts">
  import {
    DataTable,
    DataTableSkeleton,
    InlineNotification,
    Toggle,
    Toolbar,
    ToolbarContent,
    ToolbarSearch,
  } from "carbon-components-svelte";
  import { api, sentence, type Result, type Schemas } from "../lib/api";
  import {
    apart,
    countChanges,
    isSum,
    ledgers,
    movedMost,
    onBoard,
    spoken,
    written,
    type Spoken,
  } from "../lib/compared";
  import { currentWorkspace } from "../lib/workspace.svelte";
  import { p, route } from "../router";
  import { textOf } from "../lib/revision";
  import Board from "../components/Board.svelte";
  import Changes from "../components/Changes.svelte";

  /** Results beside each other, as a story: what was changed, the verdicts, where messages went, what moved most. */
  const runs = route.getParams("/w/:workspace/compare/:runs").runs.split(",").map(Number);
  const last = runs.length - 1; // which is held against the first

  let compared = $state.raw<Schemas["RunComparison"] | undefined>();
  let results = $state.raw<(Result | undefined)[]>([]);
  let views = $state.raw<(Schemas["Run"] | undefined)[]>([]);
  let difference = $state.raw<Schemas["Difference"] | undefined>();
  let checked = $state.raw<Schemas["Checked"] | undefined>();
  let trouble = $state("");
  let all = $state(false);
  let chosen = $state("");

  const workspace = currentWorkspace();

  async function load() {
    const { data, error } = await api.GET("/api/v1/workspaces/{workspace}/compare", {
      params: { path: { workspace }, query: { run: runs } },
    });
    if (error) {
      trouble = sentence(error);
      return;
    }
    compared = data;
    const of = (id: number) => ({ params: { path: { workspace, id } } });
    const read = async (id: number) => {
      const [view, result] = await Promise.all([
        api.GET("/api/v1/workspaces/{workspace}/runs/{id}", of(id)),
        api.GET("/api/v1/workspaces/{workspace}/runs/{id}/result", of(id)),
      ]);
      return { view: view.data, result: result.data as Result | undefined };
    };
    const found = await Promise.all(runs.map(read));
    [views, results] = [found.map((f) => f.view), found.map((f) => f.result)];
    const [before, after] = await Promise.all([views[0], views[last]].map((v) => (v ? textOf(v) : "")));
    if (!before || !after) return;
    const [changed, drawn] = await Promise.all([
      before === after ? undefined : api.POST("/api/v1/diff", { body: { before, after } }),
      api.POST("/api/v1/check", { body: { text: after } }),
    ]);
    [difference, checked] = [changed?.data, drawn.data];
  }
  load();

  const differences = $derived(compared?.differences ?? {});
  const replications = $derived(results.map((r) => r?.replications ?? 1));
  const moved = $derived(movedMost(differences, last, replications));
  const marked = $derived(onBoard(differences, last, replications));
  const expectations = $derived([...new Set(results.flatMap((r) => Object.keys(r?.expect ?? {})))]);
  const sameModel = $derived(views[0]?.model === views[last]?.model && views[0]?.revision === views[last]?.revision);

  const changes = $derived(countChanges(difference?.changes ?? null));
  const saysChanges = $derived(
    [
      `${changes} ${changes === 1 ? "change" : "changes"} of the model`,
      ...[
        [difference?.came?.length ?? 0, "new"],
        [difference?.went?.length ?? 0, "resolved"],
      ]
        .filter(([n]) => Number(n) > 0)
        .map(([n, word]) => `${n} ${n === 1 ? "finding" : "findings"} ${word}`),
    ].join(", "),
  );

  /** Whether a number differs by more than chance, in a word. */
  const significant = (beyond: boolean | null | undefined) =>
    beyond === true ? "yes" : beyond === false ? "no" : "undecided";

  // What is beyond chance first, then what nobody can tell; of each the main counts first, then by how far apart.
  const rank = (r: { path: string; beyond: boolean | null }) =>
    (r.beyond === true ? 0 : r.beyond === null ? 2 : 4) + (r.path.startsWith("per_replication.") ? 0 : 1);
  const far = (values: (number | null)[]) => Math.max(...values.slice(1).map((v) => apart(values[0] ?? null, v)));
  type Row = {
    id: string;
    about: string;
    what: string;
    path: string;
    values: (number | null)[];
    beyond: boolean | null;
    change: number;
    [run: string]: unknown;
  };
  const rows = $derived<Row[]>(
    Object.entries(differences)
      .filter(([path]) => !path.startsWith("engine.") && !path.startsWith("series"))
      .map(([path, d]) => ({
        id: path,
        path,
        ...spoken(path),
        sum: isSum(path),
        values: (d?.values ?? []) as (number | null)[],
        beyond: (d?.beyond_chance ?? null) as boolean | null,
      }))
      .filter((r) => all || r.beyond !== false)
      .sort((a, b) => rank(a) - rank(b) || far(b.values) - far(a.values))
      .map((r) => ({ ...r, change: far(r.values), ...Object.fromEntries(r.values.map((v, i) => [`v${i}`, v])) })),
  );
  const headers = $derived<{ key: string; value: string }[]>([
    { key: "about", value: "Of" },
    { key: "what", value: "Number" },
    ...runs.map((r, i) => ({ key: `v${i}`, value: `Run ${r}` })),
    { key: "change", value: "Apart" },
    { key: "beyond", value: "Significant (95%)" },
  ]);
</script>

<svelte:head><title>Compare runs · Iron Weir</title></svelte:head>

<div class="page" id="main-content">
  <h1>Compare</h1>
  {#if trouble}
    <InlineNotification kind="error" title="Not compared." subtitle={trouble} hideCloseButton />
  {:else if !compared}
    <DataTableSkeleton showHeader={false} showToolbar={false} rows={6} />
  {:else}
    <ul>
      {#each compared.results as name, i (name)}<li>
          <a href={p("/w/:workspace/runs/:id", { params: { workspace: currentWorkspace(), id: String(runs[i]) } })}
            >{name}</a
          >{i === 0 ? " — the others are held against this one" : ""}
        </li>{/each}
    </ul>
    {#if compared.same}
      <p>The results are the same, number by number.</p>
    {:else}
      <h2>What was changed</h2>
      {#if sameModel}<p>Nothing in the model: both are {views[0]?.model}, revision {views[0]?.revision}.</p>
      {:else if difference}
        <details open={changes <= 8}>
          <summary>{saysChanges}</summary>
          <Changes {difference} />
        </details>
      {/if}
      {#if views[0] && views[last] && views[0].scenario !== views[last].scenario}
        <p>The scenario: {views[0].scenario || "none"}, then {views[last].scenario || "none"}.</p>
      {/if}

      {#if expectations.length > 0}
        <h2>Verdicts</h2>
        <table class="bx--data-table bx--data-table--compact verdicts">
          <thead
            ><tr
              ><th scope="col">Expectation</th>{#each runs as r (r)}<th scope="col">Run {r}</th>{/each}</tr
            ></thead
          >
          <tbody>
            {#each expectations as name (name)}
              <tr
                ><td><span title={results.find((r) => r?.expect?.[name])?.expect?.[name]?.expression}>{name}</span></td
                >{#each results as r, i (i)}{@const verdict = r?.expect?.[name]}<td
                    class:lost={verdict && !verdict.holds}
                    >{!verdict
                      ? "—"
                      : `${verdict.holds ? "✓ holds" : "✗ fails"}${
                          (r?.replications ?? 1) > 1 ? `: held in ${verdict.holds_in} of ${r?.replications}` : ""
                        }`}</td
                  >{/each}</tr
              >
            {/each}
          </tbody>
        </table>
      {/if}

      <h2>Where messages went</h2>
      <p class="quiet">
        Copies of one replication, on average. Significant: the 95% intervals of the two do not touch.
      </p>
      <table class="bx--data-table bx--data-table--compact">
        <thead
          ><tr
            ><th scope="col">Fate</th>{#each runs as r (r)}<th scope="col" class="num">Run {r}</th>{/each}<th
              scope="col">Significant</th
            ></tr
          ></thead
        >
        <tbody>
          {#each ledgers(differences) as row (row.key)}
            <tr data-fate={row.key}
              ><td class:lost={row.key === "lost"} class:parked={row.key === "parked"}>{row.label}</td
              >{#each row.of?.values ?? [] as v, i (i)}<td class="num">{written(v, "count")}</td>{/each}<td
                >{significant(row.of?.beyond_chance)}</td
              ></tr
            >
          {/each}
        </tbody>
      </table>

      {#if checked && marked.badges.size > 0}
        <h2>Where it is better, and where worse</h2>
        <p class="quiet">
          Each node shows its main number, of one replication on average. Its badge says whether it is better or worse.
        </p>
        <div class="drawn">
          <Board
            board={checked.board}
            findings={[]}
            embedded
            {chosen}
            onchoose={(n) => (chosen = n)}
            badges={marked.badges}
            highlighted={marked.marks}
          />
        </div>
      {/if}

      {#if moved.length > 0}
        <h2>What moved most</h2>
        <p class="quiet">Counts of one replication, on average.</p>
        <ul class="moved">
          {#each moved as m (m.path)}
            <li class:better={m.better === true} class:worse={m.better === false} title={m.path}>
              <strong>{m.says.about}: {m.says.what}</strong>
              {written(m.from, m.says.unit)} → {written(m.to, m.says.unit)}{m.better === undefined
                ? ""
                : m.better
                  ? ", better"
                  : ", worse"}
            </li>
          {/each}
        </ul>
      {/if}

      <h2>All numbers</h2>
      <p class="quiet">
        Numbers without an interval (sums, maxima, runs of one replication) are undecided, and come last.
      </p>
      <div class="toggle">
        <Toggle size="sm" labelText="What may be chance" labelA="left out" labelB="shown" bind:toggled={all} />
      </div>
      <div class="scrolls">
        <DataTable size="compact" sortable {rows} headers={headers as never}>
          <Toolbar size="sm"
            ><ToolbarContent
              ><ToolbarSearch
                persistent
                shouldFilterRows
                placeholder="Filter, such as lost or consignments"
              /></ToolbarContent
            ></Toolbar
          >
          <svelte:fragment slot="cell" let:cell let:row>
            {#if cell.key === "about" || cell.key === "what"}<span title={row.path}
                >{cell.value}{cell.key === "what" && row.sum && Math.max(...replications) > 1
                  ? ", all runs together"
                  : ""}</span
              >
            {:else if cell.key === "beyond"}<span class:sure={row.beyond === true}>{significant(row.beyond)}</span>
            {:else if cell.key === "change"}<span class="num">{Math.round(100 * Number(cell.value))}%</span>
            {:else}<span class="num">{written(cell.value as number | null, row.unit as Spoken["unit"])}</span>{/if}
          </svelte:fragment>
        </DataTable>
      </div>
    {/if}
  {/if}
</div>

<style>
  h2 {
    margin: 1.5rem 0 0.5rem;
  }
  ul {
    margin: 0.25rem 0 0.75rem;
  }
  .toggle {
    margin: 0.5rem 0;
  }
  .sure {
    font-weight: 600;
  }
  .verdicts {
    width: auto;
  }
  .drawn {
    height: 26rem;
    border: 1px solid var(--cds-border-subtle);
  }
  .moved li {
    padding: 0.25rem 0 0.25rem 0.75rem;
    border-left: 4px solid var(--cds-border-subtle);
    margin-bottom: 0.25rem;
  }
  .moved li.better {
    border-left-color: var(--cds-support-success, #24a148);
  }
  .moved li.worse {
    border-left-color: var(--cds-support-error, #da1e28);
  }
  .scrolls {
    overflow-x: auto;
  }
</style>
