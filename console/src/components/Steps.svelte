<script lang="ts">
  import { fold, sentenceOf, type Step } from "../lib/steps";
  import { count, duration } from "../lib/format";

  /** Steps of a message, each below what caused it. */
  let { steps }: { steps: Step[] } = $props();
  const rows = $derived(fold(steps));
</script>

<ol>
  {#each rows as { step: s, depth, times, last, left } (s.id)}
    {#if left > 0}<li class="declined">… {count(left)} {left === 1 ? "step" : "steps"} left out</li>{/if}
    <li class={s.what} class:failed={(s.why ?? "").startsWith("failed")}>
      <span class="at">{duration(s.t_s)}</span><span style="padding-left: {depth * 0.75}rem">{sentenceOf(s)}</span
      >{#if times > 1}<b> ×{times}</b>{/if}
      <i>{s.what === "returned" ? "" : s.why}{times > 1 && last > s.t_s ? `, the last at ${duration(last)}` : ""}</i>
      {#if s.event}<details>
          <summary aria-label="The event at {s.node}">event</summary>
          <pre>{JSON.stringify(s.event, null, 2)}</pre>
        </details>{/if}
    </li>
  {/each}
</ol>

<style>
  li {
    line-height: 1.5;
    white-space: nowrap;
  }
  .at {
    display: inline-block;
    min-width: 5rem;
    color: var(--cds-text-02);
  }
  details {
    display: inline-block;
    vertical-align: top;
  }
  summary {
    cursor: pointer;
    color: var(--cds-link-01);
  }
  pre {
    font:
      0.75rem/1.4 "IBM Plex Mono",
      monospace;
    background: var(--cds-ui-01);
    padding: 0.5rem;
    max-width: 32rem;
    overflow: auto;
    white-space: pre-wrap;
  }
  li i {
    color: var(--cds-text-02);
    margin-left: 0.25rem;
  }
  .declined {
    color: var(--cds-text-02);
  }
  .failed,
  .lost,
  .parked {
    color: var(--fails);
    font-weight: 600;
  }
  .lost {
    color: var(--loses);
  }
  .parked {
    color: var(--parked);
  }
</style>
