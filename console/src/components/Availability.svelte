<script lang="ts">
  import type { Schemas } from "../lib/api";
  import { asPatch, contributions, entriesWithBreakdowns, perYear } from "../lib/availability";

  type Remedy = Schemas["CheckRemedy"];
  let {
    check,
    chosen,
    edits,
    onchoose,
    onapply,
  }: {
    check: Schemas["CheckDocument"] | null | undefined;
    chosen: string;
    edits: boolean;
    onchoose: (node: string) => void;
    onapply: (remedy: Remedy) => void;
  } = $props();

  const all = $derived(entriesWithBreakdowns(check));
  const rows = $derived([...all.filter((r) => r.entry === chosen), ...all.filter((r) => r.entry !== chosen)]);
  let open = $state(""); // the entry whose breakdowns are shown
</script>

<section aria-label="Availability">
  {#if !check}
    <p class="quiet">The availability is shown once the text can be read.</p>
  {:else if rows.length === 0}
    <p class="quiet">
      No node says how often it breaks down. Give one that can <code>{"breaks: {every: 60d, for: 25m}"}</code>, and its
      consequences for a year are shown here.
    </p>
  {:else}
    <table>
      <thead>
        <tr>
          <th></th><th>Messages of a year from</th><th class="num">Lost</th><th class="num">Parked</th><th class="num"
            >Late</th
          ><th class="num">Answered with an error</th><th>Most by</th>
        </tr>
      </thead>
      <tbody>
        {#each rows as { entry, a } (entry)}
          <tr class:open={open === entry}>
            <td
              ><button
                class="why"
                aria-expanded={open === entry}
                aria-label="Breakdowns behind {entry}"
                onclick={() => (open = open === entry ? "" : entry)}>{open === entry ? "▾" : "▸"}</button
              ></td
            >
            <td><button class="mono" onclick={() => onchoose(entry)}>{entry}</button></td>
            {#if a.lost_per_year === null}
              <td colspan="5">unknown: {a.assumptions?.join("; ")}</td>
            {:else}
              <td class="num" data-loses={a.lost_per_year > 0}>{perYear(a, "lost_per_year")}</td>
              <td class="num">{perYear(a, "parked_per_year")}</td>
              <td class="num">{perYear(a, "late_per_year")}</td>
              <td class="num">{perYear(a, "returned_per_year")}</td>
              <td>{a.by?.[0]?.faults?.join(" + ") ?? "nothing"}</td>
            {/if}
          </tr>
          {#if open === entry}
            <tr class="reasons">
              <td></td><td colspan="6">
                {#each contributions(a) as line (line)}<p>{line}</p>{/each}
                {#each a.improvements ?? [] as change (change.say)}
                  <p class="change">
                    {#if edits}<button class="apply" onclick={() => onapply(asPatch(change))}
                        >{change.say.replaceAll("`", "")}</button
                      >{:else}{change.say.replaceAll("`", "")}{/if}
                    leaves {perYear(change, "lost_per_year")} lost, {perYear(change, "parked_per_year")} parked
                  </p>
                {/each}
              </td>
            </tr>
          {/if}
        {/each}
      </tbody>
    </table>
    <p class="quiet">
      From the breakdowns that nodes and groups state (<code>breaks</code>), at the mean rates. Late: met a breakdown
      and got through by another try. ~ marks an estimate.
    </p>
  {/if}
</section>

<style>
  section {
    padding: 0.25rem 0.75rem;
  }
  table {
    border-collapse: collapse;
    width: 100%;
    font-size: 0.75rem;
  }
  th {
    text-align: left;
    color: var(--cds-text-02);
    font-weight: 400;
  }
  th,
  td {
    padding: 0.125rem 0.75rem 0.125rem 0;
    border-bottom: 1px solid var(--cds-ui-03);
    white-space: nowrap;
  }
  td:last-child {
    width: 100%;
  }
  .num {
    text-align: right;
  }
  [data-loses="true"] {
    color: var(--loses);
    font-weight: 600;
  }
  button {
    font-size: inherit;
    background: none;
    border: 0;
    padding: 0;
    min-height: 1.5rem;
    color: var(--cds-text-01);
    cursor: pointer;
  }
  button:hover,
  .apply {
    text-decoration: underline;
  }
  .why {
    min-width: 1.5rem;
  }
  .reasons td {
    white-space: normal;
  }
  p {
    font-size: inherit;
  }
  .quiet {
    padding-top: 0.5rem;
  }
</style>
