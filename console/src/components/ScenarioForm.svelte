<script lang="ts">
  import { Button, Select, SelectItem, TextInput } from "carbon-components-svelte";
  import Add from "carbon-icons-svelte/lib/Add.svelte";
  import TrashCan from "carbon-icons-svelte/lib/TrashCan.svelte";
  import type { Board } from "../lib/api";
  import { effects, effectsOn, readForm, writeField } from "../lib/scenario";
  import { freeName } from "../lib/written";

  let { text, board, edits, onedit }: { text: string; board: Board; edits: boolean; onedit: (text: string) => void } =
    $props();

  const form = $derived(readForm(text));
  const nodes = $derived(board.nodes.map((n) => n.name));
  const entries = $derived(board.nodes.filter((n) => n.kind !== "schedule").map((n) => n.name));
  const links = $derived(board.links.filter((l) => l.stroke !== "dead-letter").map((l) => l.id));
  const set = (path: string[], value: unknown) => onedit(writeField(text, path, value));
  const usual: [string, string, string][] = [
    ["nothing-lost", "run.ledger.lost.total == 0", "nothing is lost"],
    ["few-parked", "run.ledger.parked < 50", "few are parked"],
    ["all-done", "run.ledger.waiting < 100", "the backlog is worked off"],
  ];

  function effect(name: string, was: string, field: string) {
    let now = text;
    if (was && was !== field) now = writeField(now, ["incidents", name, was], "");
    onedit(writeField(now, ["incidents", name, field], effects.find((e) => e.field === field)?.usual ?? ""));
  }
  function target(name: string, on: string) {
    const isLink = links.includes(on);
    let now = writeField(text, ["incidents", name, isLink ? "node" : "link"], "");
    now = writeField(now, ["incidents", name, isLink ? "link" : "node"], on);
    const allowed = effectsOn(isLink).map((e) => e.field);
    for (const e of effects) if (!allowed.includes(e.field)) now = writeField(now, ["incidents", name, e.field], "");
    const has = form?.incidents.find((i) => i.name === name)?.does ?? "";
    if (!allowed.includes(has))
      now = writeField(now, ["incidents", name, isLink ? "paused" : "fails"], isLink ? "true" : "100%");
    onedit(now);
  }
</script>

{#snippet field(label: string, value: string, path: string[], hint = "")}
  <TextInput
    size="sm"
    labelText={label}
    placeholder={hint}
    {value}
    disabled={!edits}
    on:change={(e) => set(path, e.detail ?? "")}
  />
{/snippet}
{#snippet gone(path: string[])}
  {#if edits}<Button
      size="small"
      kind="ghost"
      icon={TrashCan}
      iconDescription="Remove {path[1]}"
      tooltipAlignment="end"
      on:click={() => set(path, "")}
    />{/if}
{/snippet}

{#if !form}
  <p class="quiet">The text is not a valid scenario. Correct it there to use the form again.</p>
{:else}
  <div class="form">
    <section>
      <div class="row">
        {@render field("Length", form.length, ["length"], "24h")}
        {@render field("Start", form.start, ["start"], "2026-03-27T12:00:00Z")}
        {@render field("Replications", form.replications, ["replications"], "1")}
        {@render field("Seed", form.seed, ["seed"], "1")}
      </div>
    </section>
    <section aria-label="Traffic">
      <h3>Traffic</h3>
      {#each form.traffic as t (t.name)}
        <div class="row" data-traffic={t.name}>
          <b class="mono">{t.name}</b>
          <Select
            size="sm"
            labelText="Into"
            selected={t.into}
            disabled={!edits}
            on:update={(e) => e.detail !== t.into && set(["traffic", t.name, "into"], e.detail)}
            >{#each entries as n (n)}<SelectItem value={n} />{/each}</Select
          >
          {@render field("Rate", t.rate, ["traffic", t.name, "rate"], "40/h")}
          {#if t.arrivals}
            <Select
              size="sm"
              labelText="Arrivals"
              selected={t.arrivals}
              disabled={!edits}
              on:update={(e) =>
                e.detail !== t.arrivals && set(["traffic", t.name, "arrivals"], e.detail === "poisson" ? "" : e.detail)}
              ><SelectItem value="poisson" text="at random" /><SelectItem value="even" text="evenly" /></Select
            >
          {:else}<span class="quiet">arrivals: see the text</span>{/if}
          {@render field("Key", t.key, ["traffic", t.name, "key"])}
          {@render field("Size", t.size, ["traffic", t.name, "size"], "40KB")}
          {@render gone(["traffic", t.name])}
        </div>
      {:else}<p class="quiet">Nothing but what schedules send.</p>{/each}
      {#if edits}<Button
          size="small"
          kind="ghost"
          icon={Add}
          on:click={() =>
            set(
              [
                "traffic",
                freeName(
                  "traffic",
                  form.traffic.map((t) => t.name),
                ),
              ],
              { into: entries[0] ?? "", rate: "60/h" },
            )}>Traffic</Button
        >{/if}
    </section>
    <section aria-label="Incidents">
      <h3>Incidents</h3>
      {#each form.incidents as i (i.name)}
        <div class="row" data-incident={i.name}>
          <b class="mono">{i.name}</b>
          {@render field("At", i.at, ["incidents", i.name, "at"], "2h")}
          {@render field("For", i.for, ["incidents", i.name, "for"], "to the end")}
          {#if i.does}
            <Select
              size="sm"
              labelText="What"
              selected={i.on}
              disabled={!edits}
              on:update={(e) => e.detail !== i.on && target(i.name, String(e.detail))}
              >{#each [...nodes, ...links] as n (n)}<SelectItem value={n} />{/each}</Select
            >
            <Select
              size="sm"
              labelText="Does"
              selected={i.does}
              disabled={!edits}
              on:update={(e) => e.detail !== i.does && effect(i.name, i.does, String(e.detail))}
              >{#each effectsOn(links.includes(i.on)) as x (x.field)}<SelectItem
                  value={x.field}
                  text={x.words}
                />{/each}</Select
            >
            {@render field("Value", i.value, ["incidents", i.name, i.does])}
          {:else}<span class="quiet">see the text</span>{/if}
          {@render gone(["incidents", i.name])}
        </div>
      {:else}<p class="quiet">Nothing goes wrong.</p>{/each}
      {#if edits}<Button
          size="small"
          kind="ghost"
          icon={Add}
          on:click={() =>
            set(
              [
                "incidents",
                freeName(
                  "incident",
                  form.incidents.map((i) => i.name),
                ),
              ],
              { at: "1h", for: "30m", node: nodes[0] ?? "", fails: "100%" },
            )}>Incident</Button
        >{/if}
    </section>
    <section aria-label="Expectations">
      <h3>Expectations</h3>
      {#each form.expect as x (x.name)}
        <div class="row" data-expectation={x.name}>
          <b class="mono">{x.name}</b>
          <span class="wide">{@render field("Of the result, `run`", x.expression, ["expect", x.name])}</span>
          {@render gone(["expect", x.name])}
        </div>
      {:else}<p class="quiet">None yet: a run reports what happens without a verdict.</p>{/each}
      {#if edits}
        {#each usual.filter(([name]) => !form.expect.some((x) => x.name === name)) as [name, expression, words] (name)}<Button
            size="small"
            kind="ghost"
            icon={Add}
            on:click={() => set(["expect", name], expression)}>{words}</Button
          >{/each}
      {/if}
    </section>
  </div>
{/if}

<style>
  .form {
    padding: 0.5rem 0.75rem 2rem;
    overflow: auto;
    height: 100%;
    font-size: 0.8125rem;
  }
  h3 {
    font-size: 0.875rem;
    font-weight: 600;
    padding: 1rem 0 0.25rem;
  }
  .row {
    display: flex;
    flex-wrap: wrap;
    gap: 0.5rem;
    align-items: end;
    padding: 0.25rem 0;
    border-bottom: 1px solid var(--cds-ui-03);
  }
  .row > b {
    flex: 1 0 100%;
  }
  .row > :global(.bx--form-item) {
    flex: 1 1 6.5rem;
    min-width: 0;
  }
  .row > :global(.bx--form-item:has(select)) {
    flex-basis: 10rem;
  }
  .wide {
    flex: 1;
  }
  p {
    font-size: inherit;
  }
</style>
