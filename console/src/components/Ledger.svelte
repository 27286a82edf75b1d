<script lang="ts">
  import type { Result } from "../lib/api";
  import { causes, counted, fates, share } from "../lib/format";

  let {
    ledger,
    over = 1,
    spreads,
    onpick,
  }: {
    ledger: Result["ledger"];
    over?: number; // replications, of which the mean is shown; 1: their sum
    spreads?: Result["per_replication"]; // what one replication counts, by fate
    onpick?: (fate: string) => void;
  } = $props();

  const count = (n: number) => counted(n, over);
  const interval = (fate: string) => {
    const ci = spreads?.[fate]?.ci;
    return ci ? `${counted(Math.max(ci[0], 0), 1)} to ${counted(ci[1], 1)}` : "";
  };

  const rows = $derived.by(() => {
    const counts = ledger as unknown as Record<string, number>;
    const kept = fates.map((f) => ({ ...f, n: counts[f.key] ?? 0 })).filter((f) => f.n > 0);
    const lost = Object.entries(ledger.lost)
      .filter(([cause, n]) => cause !== "total" && n > 0)
      .map(([cause, n]) => ({
        key: "lost-" + cause,
        label: "lost: " + cause.replaceAll("_", "-"),
        means: causes[cause] ?? "",
        bad: true,
        n,
      }));
    return [...kept, ...lost];
  });
  const sum = $derived(rows.reduce((s, r) => s + r.n, 0));
  const sums = $derived(
    sum === ledger.copies
      ? `adds up: ${count(ledger.copies)} copies of ${count(ledger.entered)} messages`
      : "does not add up; please report this run",
  );
</script>

<div class="strip" aria-hidden="true">
  {#each rows as r, i (r.key)}
    <span
      class:lost={r.key.startsWith("lost")}
      class:parked={r.key === "parked"}
      style:flex-grow={Math.max(r.n, ledger.copies / 400)}
      style:opacity={r.bad ? 1 : 0.85 - 0.13 * (i % 5)}
      title="{r.label}: {count(r.n)}"
    ></span>
  {/each}
</div>
<table class="bx--data-table bx--data-table--compact">
  <caption class="bx--visually-hidden">Where every message went</caption>
  <thead
    ><tr
      ><th scope="col">Fate</th><th scope="col" class="num">{over > 1 ? "Copies a run" : "Copies"}</th>{#if spreads}<th
          scope="col"
          class="num interval">95% interval</th
        >{/if}<th scope="col" class="num">Share</th><th scope="col" class="means">What it means</th></tr
    ></thead
  >
  <tbody>
    {#each rows as r (r.key)}
      <tr data-fate={r.key}
        ><td class:lost={r.key.startsWith("lost")} class:parked={r.key === "parked"} data-means={r.means}
          >{#if onpick}<button
              class="plain behind"
              onclick={() => onpick(r.key)}
              title="The journeys behind this number">{r.label}</button
            >{:else}{r.label}{/if}</td
        ><td class="num">{count(r.n)}</td>{#if spreads}<td class="num interval quiet">{interval(r.key)}</td>{/if}<td
          class="num">{share(r.n / Math.max(ledger.copies, 1))}</td
        ><td class="quiet means">{r.means}</td></tr
      >
    {/each}
    <tr data-fate="sum"
      ><td data-means={sums}><b>sum</b></td><td class="num"><b>{count(sum)}</b></td>{#if spreads}<td
          class="num interval quiet">{interval("copies")}</td
        >{/if}<td></td><td class="quiet means">{sums}</td></tr
    >
  </tbody>
</table>

<style>
  .strip {
    display: flex;
    gap: 2px;
    height: 20px;
    margin-bottom: 0.5rem;
  }
  .strip span {
    background: var(--fine);
    min-width: 2px;
  }
  .strip .parked {
    background: var(--parked);
  }
  .strip .lost {
    background: var(--loses);
  }
  table {
    width: 100%;
  }
  @media (max-width: 600px) {
    th,
    td {
      padding-left: 0.5rem;
      padding-right: 0.5rem;
    }
    .means,
    .interval {
      display: none;
    }
    td[data-means]::after {
      content: attr(data-means);
      display: block;
      white-space: normal;
      font-size: 0.75rem;
      font-weight: 400;
      color: var(--cds-text-02);
    }
  }
  td.lost {
    color: var(--loses);
    font-weight: 600;
  }
  td.parked {
    color: var(--parked);
    font-weight: 600;
  }
</style>
