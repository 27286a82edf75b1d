<!-- A run over time: what happened, as labelled bars, and below them what its nodes held, received and lost. -->
<script lang="ts">
  import { duration } from "../lib/format";
  import type { Result } from "../lib/api";
  import type { Mark } from "../lib/marks";
  import TimeChart from "./TimeChart.svelte";

  let {
    result,
    marks,
    node = "",
    times = 1,
    at = $bindable(0),
    onloss,
  }: {
    result: Result;
    marks: Mark[];
    node?: string; // the only one that is shown; empty: those with most
    times?: number; // so many times the mean of the replications is shown
    at?: number; // the step that is shown elsewhere on the page
    onloss: (from: number, until: number, node: string) => void; // a loss was pressed; seconds since the start
  } = $props();

  type Measure = "depth" | "oldest_s" | "copies" | "lost";
  const measures: { key: Measure; unit: string }[] = [
    { key: "depth", unit: "messages held" },
    { key: "oldest_s", unit: "oldest, s" },
    { key: "copies", unit: "arrivals a step" },
    { key: "lost", unit: "lost a step" },
  ];
  const most = 6; // nodes in one chart

  const series = $derived(Object.entries(result.series?.nodes ?? {}).filter(([name]) => !node || name === node));
  const step = $derived(result.series?.step_s ?? 1);
  const steps = $derived(Math.max(0, ...Object.values(result.series?.nodes ?? {}).map((s) => s.copies?.length ?? 0)));
  const charts = $derived(
    coloured(
      measures
        .map((m) => ({
          ...m,
          lines: series
            .map(([name, s]) => {
              const values = s[m.key] ?? [];
              // How old the oldest message is adds up to nothing.
              return { name, values: m.key === "oldest_s" ? values : values.map((v) => v * times) };
            })
            .map((l) => ({ ...l, top: Math.max(0, ...l.values) }))
            .filter((l) => l.top > 0)
            .sort((a, b) => b.top - a.top)
            .slice(0, most),
        }))
        .filter((m) => m.lines.length > 0),
    ),
  );

  /** Gives a node the same colour in every chart, and no two of a chart the same. */
  function coloured<L extends { name: string }, C extends { lines: L[] }>(all: C[]) {
    const given = new Map<string, number>();
    return all.map((c) => {
      const used = new Set<number>();
      const take = (name: string, colour: number) => (used.add(colour), given.set(name, colour), colour);
      const known = c.lines.filter(
        (l) => given.has(l.name) && !used.has(given.get(l.name)!) && used.add(given.get(l.name)!),
      );
      const free = () => Array.from({ length: most }, (_, i) => i).find((i) => !used.has(i)) ?? 0;
      return {
        ...c,
        lines: c.lines.map((l) => ({ ...l, colour: known.includes(l) ? given.get(l.name)! : take(l.name, free()) })),
      };
    });
  }

  // Where the steps lie, as the charts say; the bars and the moment lie over them.
  let area = $state({ left: 60, width: 0 });
  const x = (seconds: number) => (seconds / (steps * step)) * area.width;
  /** Bars in as few rows as their labels allow. */
  const rows = $derived.by(() => {
    const ends: number[] = [];
    return marks.map((m) => {
      const left = x(m.from);
      const width = Math.max(x(m.until) - left, 3);
      const row = ends.findIndex((end) => end <= left);
      const at = row < 0 ? ends.length : row;
      ends[at] = left + Math.max(width, 8 + 6.6 * m.name.length) + 8;
      return { ...m, left, width, row: at };
    });
  });
  const high = $derived(rows.length ? 22 * (Math.max(...rows.map((r) => r.row)) + 1) : 0);

  function pick(measure: Measure, i: number, lines: { name: string; values: number[] }[]) {
    at = Math.min(i, steps - 1);
    const losing = lines.filter((l) => l.values[i] > 0);
    if (measure === "lost" && losing.length)
      onloss(i * step, (i + 1) * step, losing.length === 1 ? losing[0].name : "");
  }
</script>

<div class="band" role="group" aria-label="Over time">
  <div class="marks" style="height: {high}px">
    {#each area.width ? rows : [] as m (m.kind + m.name)}
      <button
        class={m.kind}
        style="--left: {area.left + m.left}px; top: {22 * m.row}px; --wide: {m.width}px"
        title="{m.name}, {m.kind}: {m.words}; {duration(m.from)}{m.until > m.from ? ` to ${duration(m.until)}` : ''}"
        onclick={() => (at = Math.min(Math.floor(m.from / step), steps - 1))}><span></span>{m.name}</button
      >
    {/each}
  </div>
  {#each charts as c, i (c.key + node + times)}
    <TimeChart
      start={result.start}
      {step}
      lines={c.lines}
      unit={c.unit}
      height={i === charts.length - 1 ? 150 : 108}
      clocked={i === charts.length - 1}
      together="run"
      onarea={(left, width) => {
        if (left !== area.left || width !== area.width) area = { left, width };
      }}
      onpick={(i) => pick(c.key, i, c.lines)}
    />
  {/each}
  {#if area.width}<div class="now" style="left: {area.left + x((at + 1) * step)}px" aria-hidden="true"></div>{/if}
</div>
{#if charts.length === 0}<p class="quiet">Nothing happened over time{node ? ` at ${node}` : ""}.</p>{/if}

<style>
  .band {
    position: relative;
  }
  .marks {
    position: relative;
  }
  .marks button {
    position: absolute;
    left: var(--left);
    min-width: var(--wide);
    max-width: calc(100% - var(--left));
    overflow: hidden;
    text-align: left;
    text-overflow: ellipsis;
    isolation: isolate;
    height: 20px;
    padding: 0 0 0 4px;
    border: none;
    background: none;
    color: var(--cds-text-01);
    font-size: 0.6875rem;
    line-height: 20px;
    white-space: nowrap;
    cursor: pointer;
  }
  .marks button span {
    position: absolute;
    inset: 0 auto 0 0;
    width: var(--wide);
    z-index: -1;
  }
  .marks .incident span {
    background: var(--cds-ui-03);
    border-left: 3px solid var(--cds-text-02);
  }
  .marks .alarm span {
    border-left: 3px solid var(--cds-support-03);
  }
  .marks button:focus-visible {
    outline: 2px solid var(--cds-focus);
  }
  .now {
    position: absolute;
    top: 0;
    bottom: 0;
    width: 0;
    border-left: 1px dashed var(--cds-text-01);
    pointer-events: none;
  }
</style>
