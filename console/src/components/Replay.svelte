<script lang="ts">
  import { Button, Checkbox, Select, SelectItem, Slider } from "carbon-components-svelte";
  import Pause from "carbon-icons-svelte/lib/Pause.svelte";
  import Play from "carbon-icons-svelte/lib/Play.svelte";
  import { untrack } from "svelte";
  import { api, type Board as Drawn, type Result } from "../lib/api";
  import { Places } from "../lib/places.svelte";
  import { textOf } from "../lib/revision";
  import { currentWorkspace, visitor } from "../lib/workspace.svelte";
  import { count, duration, rate } from "../lib/format";
  import type { Mark } from "../lib/marks";
  import { movementsOfSeries, type Movement } from "../lib/motion";
  import Board from "./Board.svelte";
  import { stateAt, type Badge } from "../lib/node-state";
  import { zone } from "../lib/zone.svelte";

  let {
    model,
    revision,
    result,
    times = 1,
    marks = [],
    at = $bindable(0),
    chosen = $bindable(""),
  }: {
    model: string;
    revision: number;
    result: Result;
    times?: number; // so many times the mean of the replications is shown: as many as there are shows their sum
    marks?: Mark[]; // its incidents and alarms
    at?: number; // the step that is shown
    chosen?: string; // the chosen node
  } = $props();
  const places = untrack(() => new Places(currentWorkspace(), model, visitor.edits));
  if (!visitor.user?.share) places.load();

  let board = $state.raw<Drawn>({ nodes: [], links: [] });
  let playing = $state(false);
  let movements = $state.raw<Movement[]>([]);
  let speed = $state("10");
  let numbered = $state(true); // whether links say what came along them

  async function draw() {
    const text = await textOf({ model, revision });
    const checked = text ? await api.POST("/api/v1/check", { body: { text } }) : undefined;
    if (checked?.data) board = checked.data.board;
  }
  draw();

  type Lines = Record<string, number[] | null>;
  const series = $derived((result.series?.nodes ?? {}) as unknown as Record<string, Lines>);
  const step = $derived(result.series?.step_s ?? 0);
  const last = $derived(Math.max(0, ...Object.values(series).map((s) => (s.depth ?? s.copies ?? []).length)) - 1);
  const value = (name: string, line: string, i: number) => (series[name]?.[line]?.[i] ?? 0) * times;

  $effect(() => {
    if (!playing) return;
    const timer = setInterval(
      () => {
        at = Math.min(at + 1, last);
        movements = movementsOfSeries(result.series, at);
        if (at >= last) playing = false;
      },
      1000 / Number(speed),
    );
    return () => clearInterval(timer);
  });

  const badges = $derived.by(() => {
    const out = new Map<string, Badge>();
    for (const n of board.nodes) {
      const depth = value(n.name, "depth", at);
      const [copies, runs, failures, lost] = ["copies", "runs", "failures", "lost"].map((l) => value(n.name, l, at));
      const throttled = value(n.name, "throttled", at);
      const deepest = Math.max(...(series[n.name]?.depth ?? [0]), 0) * times;
      const words = [
        depth >= 0.5 ? `${count(depth)} held` : "",
        runs ? `${few(runs)} runs` : copies ? `${few(copies)} came` : "",
        failures >= 0.05 ? `${few(failures)} failed` : "",
        lost >= 0.05 ? `${few(lost)} lost` : "",
      ].filter(Boolean);
      out.set(n.name, {
        text: words.slice(0, 2).join(", ") || n.kind,
        full: deepest > 1 ? depth / deepest : 0,
        waits: depth,
        state: stateAt({
          failing: failures > runs / 2,
          lost,
          throttled,
          depth: depth / times,
          capacity: n.capacity ?? 0,
        }),
      });
    }
    return out;
  });
  const came = (id: string) => Math.max(result.links[id]?.copies ?? 0, result.links[id]?.matched ?? 0);
  const few = (n: number) => (n > 0 && n < 9.95 ? Number(n.toFixed(1)).toString() : count(n));
  // A link is as wide as what came along it in the whole run, in powers of ten.
  const widths = $derived(new Map(board.links.map((l) => [l.id, 1 + 0.9 * Math.log10(1 + came(l.id))])));
  /** Of one link: what comes along it in the step that is shown, and how often that is. */
  function carries(id: string): string {
    const now = (result.series?.links?.[id]?.[at] ?? 0) * times;
    return now ? `${few(now)}\n${rate(now / step)}` : "";
  }
  const numbers = $derived(
    new Map(numbered ? board.links.filter((l) => came(l.id) > 0).map((l) => [l.id, carries(l.id)]) : []),
  );
  const highlighted = $derived.by(() => {
    const out = new Map<string, string>();
    for (const n of board.nodes) {
      const busy = ["depth", "copies", "runs"].some((l) => value(n.name, l, at) > 0);
      out.set(n.name, busy || badges.get(n.name)?.state ? "busy" : "dim");
    }
    return out;
  });
  const now = $derived(marks.filter((m) => m.kind === "incident" && m.from <= at * step && at * step < m.until));
  const clock = $derived(
    zone.format(Date.parse(result.start) + at * step * 1000, {
      weekday: "short",
      hour: "2-digit",
      minute: "2-digit",
      timeZoneName: "short",
    }),
  );
</script>

<div class="replay">
  <div class="controls">
    <Button
      size="small"
      kind="tertiary"
      icon={playing ? Pause : Play}
      on:click={() => ((at = at >= last ? 0 : at), (playing = !playing))}>{playing ? "Pause" : "Play"}</Button
    >
    <Select size="sm" inline labelText="Steps a second" bind:selected={speed}
      >{#each ["2", "5", "10", "25", "50"] as s (s)}<SelectItem value={s} />{/each}</Select
    >
    <div class="slide">
      <Slider labelText="Instant of the run" hideLabel hideTextInput min={0} max={last} bind:value={at} fullWidth />
    </div>
    <Checkbox labelText="Numbers on links" bind:checked={numbered} />
    <span class="clock" role="status"
      >{clock}, {duration(at * step)} in{#each now as m (m.name)}, <b>{m.name}</b>: {m.words}{/each}</span
    >
  </div>
  <div class="drawn">
    <Board
      {board}
      findings={[]}
      embedded
      pins={places.all}
      onpin={(put) => places.put(put)}
      {chosen}
      onchoose={(name) => (chosen = name)}
      {highlighted}
      {badges}
      {widths}
      {numbers}
      {movements}
      lasts={Math.min(700, 3000 / Number(speed))}
      highlightedLinks={new Set(board.links.filter((l) => came(l.id) > 0).map((l) => l.id))}
    />
  </div>
  <p class="quiet">
    {times > 1 ? "The sum" : "The mean"} of the replications, in steps of {duration(step)}: what each node held and did
    in this one, and what came along each link and how often. The bar is how full a node was, against its fullest; a
    link is as wide as what came along it in the whole run, in powers of ten; a pale node did nothing.
  </p>
</div>

<style>
  .replay {
    scroll-margin-top: 4rem;
  }
  .controls {
    display: flex;
    align-items: center;
    gap: 1rem;
    flex-wrap: wrap;
  }
  .slide {
    flex: 1;
    min-width: 14rem;
  }
  .slide :global(.bx--slider-container) {
    width: 100%;
  }
  .clock {
    font-variant-numeric: tabular-nums;
    min-width: 15rem;
  }
  .drawn {
    height: 36rem;
    border: 1px solid var(--cds-ui-03);
    margin: 0.5rem 0;
  }
</style>
