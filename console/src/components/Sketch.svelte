<script lang="ts">
  import type { Schemas } from "../lib/api";

  /** A small picture of a model, to recognise it by. */
  let { sketch }: { sketch: Schemas["PictureSketch"] } = $props();

  // The picture's pixels: a cell is a node with room around it.
  const [wide, high] = [160, 64];
  const margin = 5;
  const scale = $derived(Math.min((wide - 2 * margin) / sketch.columns, 22));
  const rise = $derived(Math.min((high - 2 * margin) / sketch.rows, 16));
  const size = $derived(Math.max(2.5, Math.min(8, scale * 0.5, rise * 0.6)));
  const left = $derived((wide - sketch.columns * scale) / 2);
  const top = $derived((high - sketch.rows * rise) / 2);
  /** What loops or loses is larger, too: a state is never by colour alone. */
  const sizeOf = (c: Schemas["PictureSketchedCell"]) => (c.state ? 1.5 * size : size);
  const x = (n: number) => left + n * scale;
  const y = (n: number) => top + n * rise;

  function line(l: Schemas["PictureSketchedLine"]): string {
    const [a, b] = [sketch.cells[l.from], sketch.cells[l.to]];
    if (!l.back) return `M${x(a.x)} ${y(a.y)}L${x(b.x)} ${y(b.y)}`;
    const below = Math.min(high - 1, Math.max(y(a.y), y(b.y)) + rise * 0.8);
    return `M${x(a.x)} ${y(a.y)}Q${(x(a.x) + x(b.x)) / 2} ${below} ${x(b.x)} ${y(b.y)}`;
  }
  const marked = $derived(sketch.cells.toSorted((a, b) => Number(!!a.state) - Number(!!b.state))); // over the others
</script>

<svg width={wide} height={high} viewBox="0 0 {wide} {high}" aria-hidden="true">
  {#each sketch.lines as l (`${l.from} ${l.to}`)}
    <path class="line" class:back={l.back} d={line(l)} />
  {/each}
  {#each marked as c (`${c.x} ${c.y}`)}
    <rect
      class="cell {c.state ?? ''}"
      x={x(c.x) - sizeOf(c) / 2}
      y={y(c.y) - sizeOf(c) / 2}
      width={sizeOf(c)}
      height={sizeOf(c)}
      rx={c.role === "holds" ? 0 : c.role === "works" ? sizeOf(c) / 4 : sizeOf(c) / 2}
    />
  {/each}
</svg>

<style>
  svg {
    display: block;
  }
  .line {
    fill: none;
    stroke: var(--board-edge);
    stroke-width: 0.75;
    opacity: 0.7;
  }
  .back {
    stroke-dasharray: 2 1.5;
  }
  .cell {
    fill: var(--board-edge);
  }
  .cell.loops {
    fill: var(--loops);
  }
  .cell.loses {
    fill: var(--loses);
  }
  .cell.full {
    fill: var(--full);
  }
</style>
