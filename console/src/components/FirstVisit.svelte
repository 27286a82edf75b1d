<script lang="ts">
  import { Button } from "carbon-components-svelte";
  import Close from "carbon-icons-svelte/lib/Close.svelte";
  import { firstVisit } from "../lib/first-visit.svelte";

  /** Three steps over the demo model, each done by pressing in the page itself. */
  let { live = false }: { live?: boolean } = $props(); // in a rehearsal

  const steps = $derived([
    {
      title: "See the loop",
      text: "This model looks reasonable, and one upload circulates in it indefinitely. Press the finding IW101 Loop below the board: it shows where.",
    },
    {
      title: "Fix it",
      text: "Press Apply under that finding. The change was checked on a copy first: the loop is gone, and no other error comes with it.",
    },
    live
      ? {
          title: "Break it live",
          text: "Press goods-registry on the board, then Fail. Watch what its messages do, and heal it again.",
        }
      : {
          title: "Break it live",
          text: "Press Rehearse at the top, select the scenario friday-evening, and Start. The model then runs at the pace of the clock.",
        },
    {
      title: "That is all",
      text: "Draw a model of your own under Models. The first revision of this one is kept under History.",
    },
  ]);
  const now = $derived(steps[firstVisit.step - 1]);
</script>

{#if firstVisit.open && (!live || firstVisit.step >= 3)}
  <aside aria-label="First visit">
    <div class="head">
      <b>{now.title}</b>
      {#if firstVisit.step <= 3}<span class="quiet">{firstVisit.step} of 3</span>{/if}
      <Button
        kind="ghost"
        size="small"
        icon={Close}
        iconDescription="Leave"
        tooltipPosition="left"
        on:click={() => firstVisit.leave()}
      />
    </div>
    <p aria-live="polite">{now.text}</p>
  </aside>
{/if}

<style>
  aside {
    position: absolute;
    right: 0.75rem;
    bottom: 0.75rem;
    z-index: 5;
    width: 19rem;
    padding: 0 0 0.75rem 1rem;
    background: var(--cds-ui-01);
    border-left: 4px solid var(--cds-interactive-01);
    box-shadow: 0 2px 8px rgb(0 0 0 / 30%);
  }
  .head {
    display: flex;
    align-items: center;
    gap: 0.5rem;
  }
  .head b {
    flex: 1;
  }
  p {
    font-size: 0.875rem;
    padding-right: 1rem;
  }
</style>
