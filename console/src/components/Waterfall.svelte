<script lang="ts">
  import type { Schemas } from "../lib/api";
  import { bars } from "../lib/waterfall";
  import { duration } from "../lib/format";

  let { steps }: { steps: Schemas["Step"][] } = $props();

  const rows = $derived(bars(steps));
  const from = $derived(Math.min(...rows.map((r) => r.from), Infinity));
  const span = $derived(Math.max(...rows.map((r) => r.to), 0) - from || 1);
  const left = (s: number) => (100 * (s - from)) / span;
</script>

<p class="axis quiet"><span>{duration(from)}</span><span>{duration(from + span)}</span></p>
<ol>
  {#each rows as r (r.id)}
    <li
      title="{r.node} {r.what === 'runs' ? 'runs' : 'holds it'} from {duration(r.from)} for {duration(
        r.to - r.from,
      )}: {r.says}"
    >
      <span class="name" style="padding-left: {Math.min(r.depth, 12) * 0.5}rem">{r.node}</span>
      <span class="lane"
        ><i
          class={r.what}
          class:bad={r.bad}
          style="left: {left(r.from)}%; width: {Math.max(left(r.to) - left(r.from), 0)}%"
        ></i></span
      >
      <span class="took">{duration(r.to - r.from)}{r.what === "runs" ? "" : ` ${r.says}`}</span>
    </li>
  {/each}
</ol>
<p class="quiet">Dark: a run. Light: held, the time between two tries included. Coloured: it failed, or ended badly.</p>

<style>
  .axis {
    display: flex;
    justify-content: space-between;
    padding: 0 11rem 0 13rem;
    font-size: inherit;
  }
  li {
    display: grid;
    grid-template-columns: 12.5rem 1fr 10.5rem;
    gap: 0.5rem;
    align-items: center;
    line-height: 1.5;
    white-space: nowrap;
  }
  .name {
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .lane {
    position: relative;
    height: 0.75rem;
    border-left: 1px solid var(--cds-ui-03);
    border-right: 1px solid var(--cds-ui-03);
  }
  i {
    position: absolute;
    top: 1px;
    bottom: 1px;
    min-width: 2px;
    background: color-mix(in srgb, var(--board-edge) 45%, transparent);
  }
  .runs {
    background: var(--board-ink);
  }
  .bad {
    background: var(--fails);
  }
  .held.bad {
    background: color-mix(in srgb, var(--fails) 45%, transparent);
  }
  .took {
    color: var(--cds-text-02);
    overflow: hidden;
    text-overflow: ellipsis;
  }
  p {
    font-size: inherit;
  }
</style>
