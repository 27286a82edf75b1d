<script lang="ts">
  import type { Result } from "../lib/api";
  import { flowOf } from "../lib/flow";
  import { counted } from "../lib/format";

  let { result, over = 1 }: { result: Result; over?: number } = $props(); // over: replications, of which the mean is shown
  const count = (n: number) => counted(n, over);

  const [width, height, thick] = [1000, 420, 10];
  const columns = [170, 500, 850]; // where the bars of each stand
  const flow = $derived(flowOf(result, height));
  const ribbon = (x0: number, y0: number, x1: number, y1: number, w: number) => {
    const middle = (x0 + x1) / 2;
    return `M${x0} ${y0} C${middle} ${y0} ${middle} ${y1} ${x1} ${y1} V${y1 + w} C${middle} ${y1 + w} ${middle} ${y0 + w} ${x0} ${y0 + w} Z`;
  };
</script>

<figure>
  <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
  <div class="picture" role="group" aria-label="Flow of the messages" tabindex="0">
    <svg
      viewBox="0 -14 {width} {height + 28}"
      role="img"
      aria-label="From the entries, on the left, to the nodes where copies ended, to what became of them, on the right; the ledger has the numbers"
    >
      {#each flow.bands as b, i (i)}
        <path
          class={b.bad ? b.to.name : undefined}
          d={ribbon(columns[b.from.column] + thick, b.y0, columns[b.to.column], b.y1, b.width)}
          ><title>{b.from.name} → {b.to.name}: {count(b.amount)}</title></path
        >
      {/each}
      {#each flow.bars as b (b.column + b.name)}
        <rect class={b.bad ? b.name : undefined} x={columns[b.column]} y={b.y} width={thick} height={b.height}
          ><title>{b.name}: {count(b.amount)}</title></rect
        >
        <text
          class={b.bad ? b.name : undefined}
          x={b.column === 0 ? columns[0] - 6 : columns[b.column] + thick + 6}
          y={b.y + b.height / 2}
          text-anchor={b.column === 0 ? "end" : "start"}
          dominant-baseline="central">{b.name} <tspan>{count(b.amount)}</tspan></text
        >
      {/each}
    </svg>
  </div>
  <figcaption class="quiet">
    Where messages entered, where copies of them ended, and how. Bands are as wide as their traffic; between the first
    two columns stands what was handled, stored or parked after the warm-up, a copy for each.
  </figcaption>
</figure>

<style>
  figure {
    margin: 0.5rem 0 1rem;
    max-width: 88rem;
  }
  .picture {
    overflow-x: auto;
  }
  svg {
    width: 100%;
    min-width: 44rem;
    height: auto;
  }
  path {
    fill: var(--board-edge);
    opacity: 0.28;
  }
  path:hover {
    opacity: 0.6;
  }
  path[class] {
    opacity: 0.45;
  }
  rect {
    fill: var(--board-ink);
  }
  text {
    font-size: 13px;
    fill: var(--cds-text-01);
    paint-order: stroke;
    stroke: var(--cds-ui-background);
    stroke-width: 3px;
  }
  .lost,
  .unmatched {
    fill: var(--loses);
  }
  .parked {
    fill: var(--parked);
  }
  .returned {
    fill: var(--fails);
  }
  tspan {
    fill: var(--cds-text-02);
  }
  figcaption {
    font-size: 0.8125rem;
  }
</style>
