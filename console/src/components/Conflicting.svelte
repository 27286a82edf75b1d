<!-- What two people made of one model, and what becomes of it by each choice. -->
<script lang="ts">
  import { diffLines } from "diff";
  import type { Conflict } from "../lib/model-session.svelte";
  import Changes from "./Changes.svelte";

  let { conflict, mine, alike }: { conflict: Conflict; mine: string; alike: boolean } = $props();

  /** The lines that differ, with two around them. */
  const lines = $derived(
    diffLines(conflict.text, mine).flatMap((part, i, all) => {
      const of = part.value.replace(/\n$/, "").split("\n");
      if (part.added || part.removed) return of.map((text) => ({ sign: part.added ? "+" : "−", text }));
      const before = i > 0 ? of.slice(0, 2) : [];
      const after = i < all.length - 1 ? of.slice(Math.max(of.length - 2, before.length)) : [];
      const left = of.length - before.length - after.length;
      return [...before, ...(left > 0 ? [undefined] : []), ...after].map((text) => ({
        sign: text === undefined ? "…" : " ",
        text: text ?? "",
      }));
    }),
  );
  const clashes = $derived(conflict.merged?.clashes ?? []);
</script>

<p>
  <b>Merge both</b> writes what you changed into theirs, field by field, and puts it into the editor; comments of yours
  are not taken along. <b>Save mine on top</b> replaces theirs. <b>Take theirs</b> gives up yours. Close this to go on editing.
</p>
{#if !conflict.merged}
  <p class="wrong">They cannot be merged: one of the two texts is not a valid document.</p>
{:else if clashes.length}
  <h3>Changed by both: merging keeps yours</h3>
  <ul>
    {#each clashes as c (c.path)}
      <li>
        <span class="mono">{c.path}</span>: theirs <del class="mono">{c.theirs || "removed"}</del>, yours
        <ins class="mono">{c.mine || "removed"}</ins>
      </li>
    {/each}
  </ul>
{/if}
<h3>From theirs to yours</h3>
{#if alike}<p class="wrong">Only comments or layout differ. Saving yours replaces theirs, comments included.</p>
{:else if conflict.difference}<Changes difference={conflict.difference} />
{:else}<p class="quiet">One of the two texts is not a valid model; they differ.</p>{/if}
<h3>Line by line</h3>
<pre class="mono">{#each lines as l, i (i)}<span class:added={l.sign === "+"} class:removed={l.sign === "−"}
      >{l.sign} {l.text}
</span>{/each}</pre>

<style>
  h3 {
    font-size: 0.875rem;
    margin: 1rem 0 0.25rem;
  }
  b {
    font-weight: 600;
  }
  del {
    color: var(--cds-support-01);
  }
  ins {
    color: var(--fine);
    text-decoration: none;
  }
  pre {
    font-size: 0.75rem;
    line-height: 1.4;
    max-height: 16rem;
    overflow: auto;
    padding: 0.5rem;
    background: var(--cds-ui-background);
  }
  .added {
    color: var(--fine);
  }
  .removed {
    color: var(--cds-support-01);
  }
  .wrong {
    color: var(--cds-text-error);
  }
</style>
