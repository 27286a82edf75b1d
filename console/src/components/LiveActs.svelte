<script lang="ts">
  import type { Schemas } from "../lib/api";
  import { clock } from "../lib/live";
  import { count } from "../lib/format";

  let { acts }: { acts: Schemas["RehearsalAct"][] } = $props();
</script>

{#if acts.length === 0}
  <p class="quiet">Nobody has done anything yet. Send an event, or choose a node on the board and fail it.</p>
{:else}
  <ol aria-label="Who did what, the latest first">
    {#each [...acts].reverse() as a, i (i)}
      <li>
        <span class="at">{clock(a.at_s)}</span> <b>{a.who}</b>
        {a.what}{a.times > 1 ? `, ${count(a.times)} times` : ""}
      </li>
    {/each}
  </ol>
{/if}

<style>
  li {
    line-height: 1.7;
  }
  .at {
    font-family: "IBM Plex Mono", monospace;
    color: var(--cds-text-02);
    margin-right: 0.5rem;
  }
</style>
