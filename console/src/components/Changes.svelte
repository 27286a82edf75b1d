<script lang="ts">
  import { Tag } from "carbon-components-svelte";
  import type { Schemas } from "../lib/api";
  import { destinationWords, guaranteeChange } from "../lib/guarantees";
  import CodeText from "./CodeText.svelte";

  let { difference }: { difference: Schemas["Difference"] } = $props();

  const guarantees = $derived([
    { title: "Guarantees lost", list: difference.guarantees_lost ?? [] },
    { title: "Guarantees won", list: difference.guarantees_won ?? [] },
  ]);
  const c = $derived(difference.changes);
  const fields = $derived([
    ...Object.entries(c?.nodes ?? {}).map(([of, list]) => ({ of, list: list ?? [] })),
    ...Object.entries(c?.links ?? {}).map(([of, list]) => ({ of, list: list ?? [] })),
    ...(c?.settings?.length ? [{ of: "the model", list: c.settings }] : []),
  ]);
  const whole = $derived([
    { words: "node added", names: c?.nodes_added ?? [], kind: "green" as const },
    { words: "node removed", names: c?.nodes_removed ?? [], kind: "red" as const },
    { words: "link added", names: c?.links_added ?? [], kind: "green" as const },
    { words: "link removed", names: c?.links_removed ?? [], kind: "red" as const },
  ]);
  const same = $derived(fields.length === 0 && whole.every((w) => w.names.length === 0));
</script>

{#if same}
  <p class="quiet">The models are the same.</p>
{/if}
<ul>
  {#each whole as w (w.words)}
    {#each w.names as n (n)}<li><Tag size="sm" type={w.kind}>{w.words}</Tag> <span class="mono">{n}</span></li>{/each}
  {/each}
  {#each fields as f (f.of)}
    {#each f.list as x, i (i)}
      <li>
        <span class="mono">{f.of}</span>
        {x.path}: {#if x.before}<del class="mono">{x.before}</del>{/if}
        {#if x.after}<ins class="mono">{x.after}</ins>{/if}
      </li>
    {/each}
  {/each}
</ul>
{#if difference.came?.length}
  <h4>New findings</h4>
  <ul>
    {#each difference.came as f (f.id)}<li><strong>{f.code}</strong> <CodeText text={f.message} /></li>{/each}
  </ul>
{/if}
{#if difference.went?.length}
  <h4>Resolved findings</h4>
  <ul>
    {#each difference.went as f (f.id)}<li><strong>{f.code}</strong> <CodeText text={f.message} /></li>{/each}
  </ul>
{/if}
{#each guarantees as { title, list } (title)}
  {#if list.length}
    <h4>{title}</h4>
    <ul>
      {#each list as g, i (i)}
        <li>
          <span class="mono">{g.from}</span> → <span class="mono">{destinationWords(g)}</span>
          {guaranteeChange(g)}
        </li>
      {/each}
    </ul>
  {/if}
{/each}

<style>
  ul {
    margin: 0.25rem 0 0.5rem;
    padding: 0;
    list-style: none;
  }
  li {
    padding: 0.125rem 0;
  }
  h4 {
    margin-top: 0.5rem;
  }
  del {
    text-decoration: line-through;
    color: var(--cds-support-01);
  }
  ins {
    text-decoration: none;
    color: var(--cds-support-02);
  }
</style>
