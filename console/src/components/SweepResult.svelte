<script lang="ts">
  import { DataTable } from "carbon-components-svelte";
  import type { Schemas } from "../lib/api";
  import { count } from "../lib/format";

  let { result }: { result: Schemas["RunSweep"] } = $props();

  const paths = $derived(Object.keys(result.sweep));
  const rows = $derived(
    result.points.map((p, id) => {
      const failing = Object.entries(p.expect)
        .filter(([, x]) => !x.holds)
        .map(([name]) => name);
      const maxDepth = Object.entries(p.nodes).sort(([, a], [, b]) => b.depth.max - a.depth.max)[0];
      const row: Record<string, string | number> & { id: number } = {
        id,
        ...Object.fromEntries(paths.map((path, i) => [`v${i}`, p.values[path]])),
        holds: Object.keys(p.expect).length === 0 ? "—" : failing.length ? `✗ ${failing.join(", ")}` : "✓ all hold",
        parked: p.ledger.parked,
        lost: p.ledger.lost.total,
        maxDepth: maxDepth && maxDepth[1].depth.max > 0 ? `${maxDepth[0]}: ${count(maxDepth[1].depth.max)}` : "",
      };
      return row;
    }),
  );
  const headers = $derived([
    ...paths.map((path, i) => ({ key: `v${i}`, value: path.replace(/^nodes\./, "") })),
    { key: "holds", value: "Expectations" },
    { key: "parked", value: "Parked" },
    { key: "lost", value: "Lost" },
    { key: "maxDepth", value: "Max depth" },
  ]);
</script>

<h2>Points of the sweep</h2>
{#if result.partial}<p class="quiet">It was ended early: points that are missing were not run.</p>{/if}
<DataTable size="compact" sortable {rows} {headers}>
  <svelte:fragment slot="cell" let:cell
    >{#if cell.key === "parked" || cell.key === "lost"}<span class="num">{count(cell.value)}</span
      >{:else}{cell.value}{/if}</svelte:fragment
  >
</DataTable>
