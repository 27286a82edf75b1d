<script lang="ts">
  import { Button, InlineLoading, InlineNotification, Select, SelectItem, TextInput } from "carbon-components-svelte";
  import { api, sentence, type Schemas } from "../lib/api";
  import { currentWorkspace } from "../lib/workspace.svelte";
  import { count, duration } from "../lib/format";
  import { saidOf, say } from "../lib/address";
  import { during, metBy, type Mark } from "../lib/marks";
  import Steps from "./Steps.svelte";
  import Waterfall from "./Waterfall.svelte";

  let { run, nodes, marks = [] }: { run: number; nodes: string[]; marks?: Mark[] } = $props();

  let outcome = $state<"" | "complete" | "failed" | "in_flight">("");
  let node = $state("");
  let key = $state("");
  let payload = $state("");
  let list = $state.raw<Schemas["JourneyLine"][] | undefined>();
  let sampled = $state(0);
  let recorded = $state.raw<Schemas["Journey"] | undefined>();
  let looking = $state(false);
  let trouble = $state("");
  let ending = $state(""); // how something of it must have ended: lost, for a cause, parked, returned
  let within = $state<{ from: number; until: number } | undefined>(); // when it must have ended, in seconds since the start
  let asTime = $state(false); // a journey as a waterfall
  let whole = $state<HTMLElement>();

  /** Lists the journeys behind a number: those of a fate, perhaps within some time, those that came to a node. */
  export async function behind(fate: string, at = "", time?: { from: number; until: number }) {
    [key, payload, node, within] = ["", "", at, time];
    const cause = fate.startsWith("lost-") ? fate.slice("lost-".length) || "lost" : "";
    ending = cause || (fate === "parked" || fate === "returned" ? fate : "");
    outcome = fate === "" ? "" : ending ? "failed" : fate === "waiting" || fate === "running" ? "in_flight" : "";
    // Only the page goes there: the window itself has nothing to scroll.
    const page = whole?.closest(".page");
    if (whole && page) page.scrollTop += whole.getBoundingClientRect().top - page.getBoundingClientRect().top - 48;
    await search();
  }

  async function search() {
    [looking, trouble] = [true, ""];
    const { data, error } = await api.GET("/api/v1/workspaces/{workspace}/runs/{id}/journeys", {
      params: {
        path: { workspace: currentWorkspace(), id: run },
        query: {
          outcome: outcome || undefined,
          ends: ending || undefined,
          node: node || undefined,
          key: key || undefined,
          data: payload || undefined,
          from: within?.from,
          until: within?.until,
        },
      },
    });
    looking = false;
    if (error) trouble = sentence(error);
    else [list, sampled] = [data.journeys ?? [], data.sampled];
  }

  async function tell(journey: number) {
    const { data, error } = await api.GET("/api/v1/workspaces/{workspace}/runs/{id}/journeys/{journey}", {
      params: {
        path: { workspace: currentWorkspace(), id: run, journey },
        query: { from: within?.from, until: within?.until },
      },
    });
    if (error) trouble = sentence(error);
    else recorded = data;
    say({ journey: error ? "" : String(journey) });
  }
  const wanted = Number(saidOf("journey"));
  if (wanted) search().then(() => tell(wanted));
</script>

<section aria-label="Journeys" bind:this={whole}>
  <form onsubmit={(e) => (e.preventDefault(), ([ending, within] = ["", undefined]), search())}>
    <Select size="sm" labelText="Outcome" bind:selected={outcome}>
      <SelectItem value="" text="Any outcome" /><SelectItem
        value="failed"
        text="Failed: lost, parked or returned"
      /><SelectItem value="complete" text="Complete" /><SelectItem value="in_flight" text="In flight" />
    </Select>
    <Select size="sm" labelText="Reached node" bind:selected={node}>
      <SelectItem value="" text="Any node" />
      {#each nodes as n (n)}<SelectItem value={n} text={n} />{/each}
    </Select>
    <TextInput size="sm" labelText="Key contains" placeholder="8812" bind:value={key} />
    <TextInput size="sm" labelText="Payload contains" placeholder="overweight" bind:value={payload} />
    <Button size="small" kind="tertiary" type="submit" disabled={looking}>Show journeys</Button>
  </form>
  {#if trouble}<InlineNotification
      kind="error"
      lowContrast
      title="The journey could not be loaded."
      subtitle={trouble}
      on:close={() => (trouble = "")}
    />{/if}
  {#if ending && list}<p>
      Journeys with a copy that was <b>{ending.replaceAll("_", "-")}</b>{within
        ? ` between ${duration(within.from)} and ${duration(within.until)}`
        : ""}{node ? ` and reached ${node}` : ""}.
      {#each within ? during(marks, within.from, within.until - within.from) : [] as m (m.name)}
        During <b>{m.name}</b>: {m.words}.
      {/each}
      <button class="plain as-link" onclick={() => behind("", node)}>Show all</button>
    </p>{/if}
  {#if looking}
    <InlineLoading description="Simulating the first replication again" />
  {:else if list}
    <p class="quiet">
      {#if within}{count(list.length)} journeys of the first replication, those that entered first.
      {:else}{count(list.length)} of {count(sampled)} kept journeys of the first replication: the first 200 that failed, and
        a sample of 100 others.{/if}
    </p>
    <div class="both">
      <ul>
        {#each list as j (j.journey)}
          <li>
            <button
              aria-pressed={recorded?.journey === j.journey}
              data-journey={j.journey}
              onclick={() => tell(j.journey)}
            >
              <span class={j.outcome}>{j.outcome}</span> <span class="mono">{j.key || `journey ${j.journey}`}</span>
              <span class="quiet">into {j.entry} after {duration(j.t_s)}, {count(j.copies)} copies</span>
              {#if j.ends}<br /><span class="quiet"
                  >{j.ends}{#each metBy(marks, j) as m, i (m.name)}{i ? "," : "; during"} <b>{m.name}</b>{/each}</span
                >{/if}
            </button>
          </li>
        {:else}
          <li class="quiet">
            None of them. Widen the search, or ask for one by number on the command line: <span class="mono"
              >run … -journey N</span
            >.
          </li>
        {/each}
      </ul>
      <div class="recorded" aria-live="polite">
        {#if recorded}
          <div class="head">
            <h4>Journey {recorded.journey}: {recorded.outcome}</h4>
            <div role="group" aria-label="The journey as">
              <button aria-pressed={!asTime} onclick={() => (asTime = false)}>Steps</button><button
                aria-pressed={asTime}
                onclick={() => (asTime = true)}>Waterfall</button
              >
            </div>
          </div>
          {#if asTime}<Waterfall steps={recorded.steps ?? []} />{:else}<Steps steps={recorded.steps ?? []} />{/if}
          {#if recorded.more}<p class="quiet">and {count(recorded.more)} steps more</p>{/if}
        {:else}
          <p class="quiet">Select a journey to read it step by step.</p>
        {/if}
      </div>
    </div>
  {/if}
</section>

<style>
  form {
    display: grid;
    grid-template-columns: repeat(4, minmax(8rem, 13rem)) auto;
    gap: 0.75rem;
    align-items: end;
    justify-content: start;
    margin-bottom: 0.5rem;
  }
  .both {
    display: grid;
    grid-template-columns: minmax(18rem, 1fr) 1.3fr;
    border: 1px solid var(--cds-ui-03);
    height: 24rem;
    font-size: 0.8125rem;
  }
  ul {
    margin: 0;
    padding: 0;
    list-style: none;
    overflow: auto;
    border-right: 1px solid var(--cds-ui-03);
  }
  li button {
    width: 100%;
    padding: 0.375rem 0.75rem;
    border: none;
    border-bottom: 1px solid var(--cds-ui-03);
    background: none;
    color: inherit;
    font: inherit;
    text-align: left;
    cursor: pointer;
  }
  li button:hover {
    background: var(--cds-hover-ui);
  }
  li button[aria-pressed="true"] {
    background: var(--cds-selected-ui);
  }
  li button:focus-visible {
    outline: 2px solid var(--cds-focus);
    outline-offset: -2px;
  }
  .failed {
    color: var(--fails);
    font-weight: 600;
  }
  .complete {
    color: var(--fine);
  }
  .recorded {
    overflow: auto;
    padding: 0.5rem 0.75rem;
  }
  .head {
    display: flex;
    justify-content: space-between;
    align-items: start;
  }
  .head button {
    padding: 0.125rem 0.5rem;
    min-height: 1.5rem;
    border: 1px solid var(--cds-ui-03);
    background: var(--cds-ui-background);
    color: inherit;
    font: inherit;
    cursor: pointer;
  }
  .head button[aria-pressed="true"] {
    background: var(--board-ink);
    color: var(--board-node);
  }
  h4 {
    font-size: inherit;
    font-weight: 600;
    padding-bottom: 0.25rem;
  }
  @media (max-width: 800px) {
    form,
    .both {
      grid-template-columns: 1fr;
      height: auto;
    }
  }
</style>
