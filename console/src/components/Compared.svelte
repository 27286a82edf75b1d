<script lang="ts">
  import { Button } from "carbon-components-svelte";
  import { lists, nameOf, written, type Comparison } from "../lib/observed";
  import { count } from "../lib/format";

  let {
    seen,
    adopt,
    adoptText,
    onchoose,
  }: {
    seen: Comparison;
    adopt?: () => void; // brings what was observed into the model
    adoptText: string;
    onchoose?: (node: string) => void;
  } = $props();
  const numbers = $derived([...seen.numbers.filter((n) => n.differs), ...seen.numbers.filter((n) => !n.differs)]);
  const some = $derived(lists(seen));
  const agrees = $derived(some.length === 0 && seen.drift.different.length === 0);
</script>

{#if agrees}<p>No significant difference (99%).</p>{/if}
{#each some as [title, names] (title)}
  <h3>{title}</h3>
  <ul>
    {#each names as n (n)}<li class="mono">{n}</li>{/each}
  </ul>
{/each}
{#if numbers.length}
  <h3>Numbers of the model (99% intervals)</h3>
  <table>
    <thead
      ><tr
        ><th>Node</th><th></th><th class="num">Model</th><th class="num">Observed</th><th class="num">Interval</th><th
          class="num">Seen</th
        ><th></th></tr
      ></thead
    >
    <tbody>
      {#each numbers as d (d.node + d.what)}
        <tr data-differs={d.differs}
          ><td class="mono"
            >{#if onchoose}<button class="mono" onclick={() => onchoose(d.node)}>{d.node}</button
              >{:else}{d.node}{/if}</td
          ><td>{nameOf(d.what)}</td><td class="num">{written(d.what, d.model)}</td><td class="num"
            >{written(d.what, d.observed)}</td
          ><td class="num">{d.interval.map((x) => written(d.what, Math.max(x, 0))).join(" to ")}</td><td class="num"
            >{count(d.seen)}</td
          ><td>{d.differs ? "differs" : ""}</td></tr
        >
      {/each}
    </tbody>
  </table>
{/if}
{#if seen.comments.length}
  <h3>{Object.keys(seen.patch).length ? "The change that brings it into the model" : "No change is offered"}</h3>
  <ul>
    {#each seen.comments as c (c)}<li>{c}</li>{/each}
  </ul>
{/if}
{#if Object.keys(seen.patch).length}
  <details>
    <summary>As a merge patch</summary>
    <pre>{JSON.stringify(seen.patch, null, 1)}</pre>
  </details>
  {#if adopt}<Button size="small" on:click={adopt}>{adoptText}</Button>{/if}
{/if}

<style>
  h3 {
    font-size: 0.8125rem;
    font-weight: 600;
    padding: 0.75rem 0 0.25rem;
  }
  table {
    border-collapse: collapse;
    width: 100%;
  }
  th {
    text-align: left;
    color: var(--cds-text-02);
  }
  th,
  td {
    padding: 0.125rem 0.5rem 0.125rem 0;
    border-bottom: 1px solid var(--cds-ui-03);
  }
  .num {
    text-align: right;
  }
  [data-differs="true"] {
    font-weight: 600;
  }
  [data-differs="true"] td:last-child {
    color: var(--fails);
  }
  button {
    border: 0;
    background: none;
    padding: 0;
    color: inherit;
    font: inherit;
    cursor: pointer;
    text-decoration: underline;
  }
  pre {
    overflow: auto;
    font-size: 0.75rem;
  }
  summary {
    cursor: pointer;
    min-height: 1.5rem;
    line-height: 1.5rem;
  }
</style>
