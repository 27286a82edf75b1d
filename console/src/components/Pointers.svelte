<script lang="ts">
  import { ViewportPortal } from "@xyflow/svelte";
  import type { Schemas } from "../lib/api";
  import type { Place } from "../lib/layout";

  /** Where others point. */
  let { pointers, places }: { pointers: Schemas["RehearsalPointer"][]; places: (node: string) => Place | undefined } =
    $props();
  const shown = $derived(
    pointers.flatMap((p) => {
      const node = places(p.node);
      return node ? [{ who: p.who, x: node.x + p.x, y: node.y + p.y }] : [];
    }),
  );
</script>

<ViewportPortal target="front">
  {#each shown as p (p.who)}
    <div
      class="pointer"
      data-pointer={p.who}
      style="transform: translate({p.x}px, {p.y}px) scale(calc(1 / var(--zoom)))"
    >
      <svg width="16" height="16" viewBox="0 0 16 16" aria-hidden="true"
        ><path d="M1 1l5 13 2.5-5.5L14 6z" fill="currentColor" stroke="var(--board-ground)" /></svg
      ><span>{p.who}</span>
    </div>
  {/each}
</ViewportPortal>

<style>
  .pointer {
    position: absolute;
    z-index: 30;
    display: flex;
    align-items: end;
    transform-origin: 0 0;
    color: var(--cds-interactive-01);
    pointer-events: none;
    transition: transform 0.2s linear;
  }
  span {
    margin: 12px 0 0 -2px;
    padding: 0 0.25rem;
    border-radius: 2px;
    font-size: 0.75rem;
    line-height: 1.4;
    background: var(--cds-interactive-01);
    color: var(--cds-ui-background);
    white-space: nowrap;
  }
</style>
