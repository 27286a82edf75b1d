<script lang="ts">
  import { DataTable, Toolbar, ToolbarContent, ToolbarSearch } from "carbon-components-svelte";
  import type { Schemas } from "../lib/api";
  import { count } from "../lib/format";

  let { result }: { result: Schemas["RunVariants"] } = $props();

  const names = $derived([result.base, ...Object.keys(result.variants).filter((n) => n !== result.base)]);
  const rows = $derived(
    names.map((name) => {
      const d = result.variants[name];
      const held = Object.values(d.expect).filter((x) => x.holds).length;
      return {
        id: name,
        name,
        entered: count(d.ledger.entered),
        handled: count(d.ledger.handled),
        parked: count(d.ledger.parked),
        lost: count(d.ledger.lost.total),
        expect: Object.keys(d.expect).length ? `${held} of ${Object.keys(d.expect).length} hold` : "none",
      };
    }),
  );
  const shown = (x: number) => (Math.abs(x) >= 1000 ? count(x) : Number(x.toPrecision(4)).toString());
  const differences = $derived(
    Object.entries(result.differences)
      .map(([path, d]) => {
        const variant = names.find((n) => path.startsWith(n + "."))!;
        const beyond = d.ci !== null && (d.ci[0] > 0 || d.ci[1] < 0);
        return {
          id: path,
          variant,
          path: path.slice(variant.length + 1),
          mean: d.mean,
          ci: d.ci ? `${shown(d.ci[0])} to ${shown(d.ci[1])}` : "one replication: unknown",
          chance: d.ci === null ? "unknown" : beyond ? "significant (95%)" : "not significant",
          rank: beyond ? 0 : 1,
        };
      })
      .sort((a, b) => a.rank - b.rank || Math.abs(b.mean) - Math.abs(a.mean)),
  );
</script>

<h2>Side by side</h2>
<DataTable
  size="short"
  {rows}
  headers={[
    { key: "name", value: "Variant" },
    { key: "entered", value: "Entered" },
    { key: "handled", value: "Handled" },
    { key: "parked", value: "Parked" },
    { key: "lost", value: "Lost" },
    { key: "expect", value: "Expectations" },
  ]}
/>
<h2>Differences from {result.base}</h2>
<p class="quiet">
  All variants share their random numbers, so differences are taken replication by replication, with 95 % intervals.
  Significant differences come first.
</p>
<DataTable
  size="compact"
  sortable
  rows={differences}
  headers={[
    { key: "variant", value: "Variant" },
    { key: "path", value: "Number" },
    { key: "mean", value: "Changes by" },
    { key: "ci", value: "95 % interval" },
    { key: "chance", value: "" },
  ]}
  pageSize={50}
  page={1}
>
  <Toolbar size="sm"
    ><ToolbarContent><ToolbarSearch persistent shouldFilterRows placeholder="Filter numbers" /></ToolbarContent
    ></Toolbar
  >
  <svelte:fragment slot="cell" let:cell
    >{#if cell.key === "mean"}<span class="num">{cell.value > 0 ? "+" : ""}{shown(cell.value)}</span
      >{:else}{cell.value}{/if}</svelte:fragment
  >
</DataTable>
