<script lang="ts">
  import "uplot/dist/uPlot.min.css";
  import uPlot from "uplot";
  import { theme } from "../lib/theme.svelte";
  import { zone } from "../lib/zone.svelte";

  let {
    start,
    step,
    lines,
    unit,
    height = 230,
    together = "",
    clocked = true,
    onarea,
    onpick,
  }: {
    start: string;
    step: number;
    lines: { name: string; values: number[]; colour?: number }[]; // colour: which of the six; absent: by its place
    unit: string;
    height?: number;
    together?: string; // charts of one name show the same moment under the pointer
    clocked?: boolean; // whether the hours stand below it
    onarea?: (left: number, width: number) => void; // where its steps lie, in pixels of the chart
    onpick?: (at: number) => void; // a step that was pressed
  } = $props();

  const colours = {
    light: ["#0072c3", "#8a3ffc", "#007d79", "#da1e28", "#8e6a00", "#6f6f6f"],
    dark: ["#78a9ff", "#be95ff", "#08bdba", "#ff8389", "#d2a106", "#c6c6c6"],
  };

  function chart(parent: HTMLElement) {
    const palette = colours[theme.dark ? "dark" : "light"];
    const ink = theme.dark ? "#c6c6c6" : "#525252";
    const grid = { stroke: theme.dark ? "#393939" : "#e8e8e8", width: 1 };
    const clock = new Intl.DateTimeFormat(undefined, {
      hour: "2-digit",
      minute: "2-digit",
      hourCycle: "h23",
      timeZone: zone.name,
    });
    const day = new Intl.DateTimeFormat(undefined, { day: "numeric", month: "short", timeZone: zone.name });
    // The hour, with the day where it changes.
    const marks = (_: uPlot, at: number[]) =>
      at.map((t, i) =>
        i === 0 || day.format(t * 1000) !== day.format(at[i - 1] * 1000)
          ? `${clock.format(t * 1000)}\n${day.format(t * 1000)}`
          : clock.format(t * 1000),
      );
    const began = Date.parse(start) / 1000;
    const points = Math.max(0, ...lines.map((l) => l.values.length));
    const times = Array.from({ length: points }, (_, i) => began + (i + 1) * step);
    const size = () => ({ width: parent.clientWidth, height });
    const plot = new uPlot(
      {
        ...size(),
        scales: { x: { range: [began, began + points * step] } },
        cursor: together ? { sync: { key: together } } : {},
        hooks: {
          draw: [(u) => onarea?.(u.bbox.left / devicePixelRatio, u.bbox.width / devicePixelRatio)],
          ready: [(u) => u.over.addEventListener("click", () => u.cursor.idx != null && onpick?.(u.cursor.idx))],
        },
        tzDate: (t) => uPlot.tzDate(new Date(t * 1000), zone.name),
        axes: [
          { stroke: ink, grid, ...(clocked ? { values: marks } : { values: () => [], size: 8 }) },
          { stroke: ink, grid, label: unit, size: 60 },
        ],
        series: [
          {
            value: (_: uPlot, t: number | null) =>
              t == null ? "–" : `${day.format(t * 1000)}, ${clock.format(t * 1000)} ${zone.shortAt(t * 1000)}`,
          },
          ...lines.map((l, i) => ({
            label: l.name,
            stroke: palette[(l.colour ?? i) % palette.length],
            width: 1.5,
            value: (_: uPlot, v: number | null) =>
              v == null ? "–" : v.toLocaleString(undefined, { maximumFractionDigits: 1 }),
          })),
        ],
      },
      [times, ...lines.map((l) => l.values)],
      parent,
    );
    const watch = new ResizeObserver(() => plot.setSize(size()));
    watch.observe(parent);
    return () => {
      watch.disconnect();
      plot.destroy();
    };
  }
</script>

<div
  class="chart"
  role="img"
  aria-label="{unit} over time: {lines.map((l) => l.name).join(', ')}"
  {@attach chart}
></div>

<style>
  .chart {
    width: 100%;
  }
  .chart :global(.u-legend) {
    font-size: 0.75rem;
    color: var(--cds-text-02);
  }
</style>
