<script lang="ts">
  import { Button, CodeSnippet, Select, SelectItem, TextArea, TextInput } from "carbon-components-svelte";
  import Send from "carbon-icons-svelte/lib/Send.svelte";
  import { api, sentence, type Schemas } from "../lib/api";
  import { payloadOf, sampleOf } from "../lib/sample";
  import Steps from "./Steps.svelte";

  let {
    path,
    rehearsal,
    text,
    chosen,
    edits,
    now,
  }: {
    path: { workspace: string; id: string };
    rehearsal: Schemas["Rehearsal"];
    text: string;
    chosen: string;
    edits: boolean;
    now: number;
  } = $props();

  let node = $state("");
  let key = $state("");
  let kind = $state("");
  let data = $state("{}");
  let wrong = $state("");
  let journey = $state(0);
  let recorded = $state.raw<Schemas["Journey"] | undefined>();

  $effect(() => {
    const wanted = rehearsal.entries.some((e) => e.node === chosen)
      ? chosen
      : node || (rehearsal.entries[0]?.node ?? "");
    if (wanted && wanted !== node) {
      node = wanted;
      sample(wanted);
    }
  });
  async function sample(at: string) {
    const example = await sampleOf(text, at);
    if (example && at === node) ({ key, kind, data } = example);
  }
  const address = $derived(location.origin + (rehearsal.entries.find((e) => e.node === node)?.path ?? ""));
  const event = $derived(
    JSON.stringify({
      specversion: "1.0",
      id: "1",
      source: "console",
      type: kind || "message",
      ...(key ? { subject: key } : {}),
      data: "…",
    }),
  );

  let sent = 0;
  async function send() {
    wrong = "";
    let payload: unknown;
    try {
      payload = payloadOf(data);
    } catch (e) {
      wrong = (e as Error).message;
      return;
    }
    // As any program would: an event in its JSON form.
    const answer = await fetch(address, {
      method: "POST",
      headers: { "Content-Type": "application/cloudevents+json" },
      body: JSON.stringify({
        specversion: "1.0",
        id: `console-${++sent}`,
        source: "console",
        type: kind || "message",
        ...(key ? { subject: key } : {}),
        data: payload,
      }),
    });
    const said = await answer.json();
    if (!answer.ok) wrong = sentence(said);
    else {
      journey = said.journeys[0];
      look();
    }
  }

  // What has happened to it is looked up as time goes on, until it is over.
  let looked = -1;
  async function look() {
    const id = journey;
    const { data } = await api.GET("/api/v1/workspaces/{workspace}/rehearsals/{id}/journeys/{journey}", {
      params: { path: { ...path, journey: id } },
    });
    if (data && id === journey) recorded = data;
  }
  $effect(() => {
    if (
      !journey ||
      now === looked ||
      (recorded?.journey === journey && recorded.outcome !== "in_flight" && recorded.outcome !== "")
    )
      return;
    if (Math.abs(now - looked) < 0.05) return;
    looked = now;
    look();
  });
</script>

<form onsubmit={(e) => (e.preventDefault(), send())}>
  <Select size="sm" labelText="To" bind:selected={node} on:change={() => sample(node)}>
    {#each rehearsal.entries as e (e.node)}<SelectItem value={e.node} text="{e.node} · {e.kind}" />{/each}
  </Select>
  <div class="two">
    <TextInput size="sm" labelText="Key" bind:value={key} /><TextInput size="sm" labelText="Type" bind:value={kind} />
  </div>
  <TextArea rows={4} labelText="Payload (JSON)" bind:value={data} />
  {#if edits}<div><Button size="small" type="submit" icon={Send}>Send</Button></div>{:else}<p class="quiet">
      Viewers watch; editors send.
    </p>{/if}
  {#if wrong}<p class="wrong" role="alert">{wrong}</p>{/if}
</form>

{#if recorded}
  <section aria-label="Steps" aria-live="polite">
    <h2>
      Message {recorded.journey}{recorded.key ? `, ${recorded.key}` : ""}:
      <span class={recorded.outcome} data-outcome={recorded.outcome}
        >{recorded.outcome === "in_flight" ? "in flight" : recorded.outcome}</span
      >
    </h2>
    <div class="steps"><Steps steps={recorded.steps ?? []} /></div>
  </section>
{/if}

<details>
  <summary>From any program, with CloudEvents 1.0</summary>
  <p class="quiet">Binary, structured or as a batch; with a token from the settings.</p>
  <CodeSnippet
    type="multi"
    feedback="Copied"
    code={`curl ${address} \\\n  -H 'authorization: Bearer TOKEN' \\\n  -H 'content-type: application/cloudevents+json' \\\n  -d '${event}'`}
  />
  {#if rehearsal.endpoints.length}
    <p class="quiet">The model's endpoints answer real requests: {rehearsal.endpoints.join(", ")}, below</p>
    <CodeSnippet
      type="single"
      feedback="Copied"
      code={`${location.origin}/api/v1/workspaces/${path.workspace}/rehearsals/${path.id}/http`}
    />
  {/if}
</details>

<style>
  form {
    display: grid;
    gap: 0.5rem;
  }
  .two {
    display: grid;
    grid-template-columns: 1.5fr 1fr;
    gap: 0.5rem;
  }
  h2 {
    font-size: 0.875rem;
    font-weight: 600;
    padding: 0.75rem 0 0.25rem;
  }
  .steps {
    overflow: auto;
  }
  .wrong,
  .failed {
    color: var(--fails);
  }
  details {
    padding-top: 1rem;
  }
  summary {
    cursor: pointer;
    padding-bottom: 0.25rem;
    min-height: 1.5rem;
  }
</style>
