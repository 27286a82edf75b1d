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
  import { api, sentence, type Schemas } from "../lib/api";
  import { currentWorkspace } from "../lib/workspace.svelte";
  import { p, route } from "../router";

  const runs = route.getParams("/w/:workspace/compare/:runs").runs.split(",").map(Number);

  let compared = $state.raw<Schemas["RunComparison"] | undefined>();
  let trouble = $state("");
  let all = $state(false);

  api
    .GET("/api/v1/workspaces/{workspace}/compare", {
      params: { path: { workspace: currentWorkspace() }, query: { run: runs } },
    })
    .then(({ data, error }) => {
      if (error) trouble = sentence(error);
      else compared = data;
    });

  const number = new Intl.NumberFormat(undefined, { maximumSignificantDigits: 5 });
  /** How far the furthest value is from the first, as a share of the larger. */
  function far(values: (number | null)[]): number {
    const first = values[0] ?? 0;
    return Math.max(
      ...values.slice(1).map((v) => Math.abs((v ?? 0) - first) / Math.max(Math.abs(v ?? 0), Math.abs(first), 1e-12)),
    );
  }

  // What is beyond chance first, then what nobody can tell; of each the main counts first, then by how far apart.
  const rank = (r: { path: string; beyond: boolean | null }) =>
    (r.beyond === true ? 0 : r.beyond === null ? 2 : 4) + (r.path.startsWith("per_replication.") ? 0 : 1);
  type Row = {
    id: string;
    path: string;
    values: (number | null)[];
    beyond: boolean | null;
    change: number;
    [run: string]: unknown;
  };
  const rows = $derived<Row[]>(
    Object.entries(compared?.differences ?? {})
      .filter(([path]) => !path.startsWith("engine.") && !path.startsWith("series"))
      .map(([path, d]) => ({
        id: path,
        path,
        values: (d?.values ?? []) as (number | null)[],
        beyond: (d?.beyond_chance ?? null) as boolean | null,
      }))
      .filter((r) => all || r.beyond !== false)
      .sort((a, b) => rank(a) - rank(b) || far(b.values) - far(a.values))
      .map((r) => ({ ...r, change: far(r.values), ...Object.fromEntries(r.values.map((v, i) => [`v${i}`, v])) })),
  );
  const headers = $derived<{ key: string; value: string }[]>([
    { key: "path", value: "Number" },
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
      <p class="quiet">
        Significant: the 95% intervals of two runs do not touch. Numbers without an interval (totals, maxima, runs of
        one replication) are undecided, and come last.
      </p>
      <div class="toggle">
        <Toggle size="sm" labelText="What may be chance" labelA="left out" labelB="shown" bind:toggled={all} />
      </div>
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
          {#if cell.key === "path"}<span class="mono">{cell.value}</span>
          {:else if cell.key === "beyond"}<span class:sure={row.beyond === true}
              >{row.beyond === null ? "undecided" : row.beyond ? "yes" : "no"}</span
            >
          {:else if cell.key === "change"}<span class="num">{Math.round(100 * Number(cell.value))}%</span>
          {:else}<span class="num"
              >{cell.value === null || cell.value === undefined ? "—" : number.format(Number(cell.value))}</span
            >{/if}
        </svelte:fragment>
      </DataTable>
    {/if}
  {/if}
</div>

<style>
  ul {
    margin: 0.25rem 0 0.75rem;
  }
  .toggle {
    margin: 0.5rem 0;
  }
  .sure {
    font-weight: 600;
  }
</style>
