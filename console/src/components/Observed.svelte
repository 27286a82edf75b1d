<script lang="ts">
  import { Button, CodeSnippet, InlineLoading, TextInput } from "carbon-components-svelte";
  import { onDestroy } from "svelte";
  import { api, sentence, type Schemas } from "../lib/api";
  import { count, when } from "../lib/format";
  import { byHour } from "../lib/observed";
  import { currentWorkspace } from "../lib/workspace.svelte";
  import Compared from "./Compared.svelte";

  type View = Schemas["ObservationView"];
  let {
    model,
    revision,
    edits,
    onseen,
    onadopt,
    onchoose,
  }: {
    model: string;
    revision: number;
    edits: boolean;
    onseen: (seen: View | undefined) => void;
    onadopt: (patch: Record<string, unknown>) => void;
    onchoose: (node: string) => void;
  } = $props();

  const path = () => ({ workspace: currentWorkspace(), name: model });
  let view = $state.raw<View | undefined>();
  let said = $state("");
  let webhook = $state("");
  let whole = $state(false); // findings that have ended are shown, too

  async function look() {
    const { data, error } = await api.GET("/api/v1/workspaces/{workspace}/models/{name}/observation", {
      params: { path: path() },
    });
    if (error) {
      said = sentence(error);
      return;
    }
    if (view === undefined) webhook = data.webhook;
    view = data;
    onseen(data.spans ? data : undefined);
  }
  $effect(() => {
    if (revision) look(); // what was observed is compared with the latest revision
  });
  const timer = setInterval(() => document.visibilityState === "visible" && look(), 60_000); // it is work for the service
  onDestroy(() => {
    clearInterval(timer);
    onseen(undefined);
  });

  async function send(e: Event) {
    e.preventDefault();
    const { error } = await api.PUT("/api/v1/workspaces/{workspace}/models/{name}/webhook", {
      params: { path: path() },
      body: { address: webhook.trim() },
    });
    said = error ? sentence(error) : webhook.trim() ? "New drift is sent there." : "Nothing is sent.";
    if (!error) look();
  }
  async function forget() {
    const { error } = await api.DELETE("/api/v1/workspaces/{workspace}/models/{name}/observation", {
      params: { path: path() },
    });
    said = error ? sentence(error) : "What was observed is removed.";
    if (!error) look();
  }
  const hours = $derived(byHour(view?.hours ?? []));
  const lasting = $derived((view?.findings ?? []).filter((f) => !f.ended_at));
  const ended = $derived((view?.findings ?? []).filter((f) => f.ended_at));
  const shown = $derived(whole ? [...lasting, ...ended] : lasting);
</script>

<section aria-label="Observed">
  {#if !view}
    {#if said}<p class="wrong">{said}</p>{:else}<InlineLoading description="Comparing" />{/if}
  {:else if view.spans === 0 && view.findings.length === 0}
    <p class="quiet">
      Nothing has been observed of the real system. Point its OpenTelemetry exporter here, with a token from the
      settings; traces are compared with the model within minutes, and kept by the hour:
    </p>
    <CodeSnippet
      type="multi"
      feedback="Copied"
      code={`OTEL_EXPORTER_OTLP_ENDPOINT=${location.origin}/api/v1/workspaces/${currentWorkspace()}/models/${model}\nOTEL_EXPORTER_OTLP_PROTOCOL=http/protobuf\nOTEL_EXPORTER_OTLP_HEADERS="authorization=Bearer TOKEN"`}
    />
  {:else}
    <div class="head">
      <p>
        {view.until ? `The latest day, until ${when(view.until)}: ` : ""}{count(view.spans)} spans of {count(
          view.traces,
        )} traces{view.waiting ? `; ${count(view.waiting)} spans wait to be summed up` : ""}. Compared with revision {revision}.
      </p>
      {#if hours.length}
        <div class="hours" role="img" aria-label="Spans by the hour, the latest day">
          {#each hours as h (h.at)}<span
              title="{when(new Date(h.at).toISOString())}: {count(h.spans)} spans{h.refused
                ? `, ${count(h.refused)} refused`
                : ''}"
              class:short={h.refused > 0}
              style="height: {Math.max(h.share * 100, h.spans ? 8 : 2)}%"
            ></span>{/each}
        </div>
      {/if}
    </div>
    {#if shown.length || ended.length}
      <h3>Drift: where model and system differ for sure (99.9%, all numbers together)</h3>
      {#if !lasting.length}<p class="quiet">None now.</p>{/if}
      <ul class="drift">
        {#each shown as f (f.id)}
          <li data-drift={f.what} class:ended={!!f.ended_at}>
            {f.says}
            <span class="quiet"
              >since {when(f.found_at)}{f.ended_at ? `, until ${when(f.ended_at)}` : ""}{f.sent_at
                ? "; sent"
                : f.trouble
                  ? `; not sent: ${f.trouble}`
                  : ""}</span
            >
          </li>
        {/each}
      </ul>
      {#if ended.length}<Button size="small" kind="ghost" on:click={() => (whole = !whole)}
          >{whole ? "Hide" : "Show"} what has ended ({count(ended.length)})</Button
        >{/if}
    {/if}
    <Compared
      seen={view}
      adopt={edits ? () => view && onadopt(view.patch) : undefined}
      adoptText="Bring it into the draft"
      {onchoose}
    />
    {#if Object.keys(view.skipped).length}
      <details>
        <summary>Spans that were not used</summary>
        <ul>
          {#each Object.entries(view.skipped) as [why, n] (why)}<li>{count(n)}: {why}</li>{/each}
        </ul>
      </details>
    {/if}
  {/if}
  {#if view}<Button size="small" kind="ghost" on:click={look}>Refresh</Button>{/if}
  {#if view && edits}
    <form onsubmit={send}>
      <TextInput
        size="sm"
        labelText="Webhook for new drift"
        placeholder="none"
        helperText="A CloudEvent is posted there. An administrator lists in the settings where that may be."
        bind:value={webhook}
      />
      <Button size="small" kind="tertiary" type="submit" disabled={webhook.trim() === view.webhook}>Set webhook</Button>
      {#if view.spans || view.findings.length}<Button size="small" kind="danger-tertiary" on:click={forget}
          >Remove what was observed</Button
        >{/if}
    </form>
  {/if}
  {#if said && view}<p role="status">{said}</p>{/if}
</section>

<style>
  section {
    padding: 0.25rem 0.75rem 0.75rem;
    font-size: 0.8125rem;
  }
  h3 {
    font-size: 0.8125rem;
    font-weight: 600;
    padding: 0.75rem 0 0.25rem;
  }
  p {
    font-size: inherit;
  }
  .head {
    display: flex;
    gap: 1rem;
    align-items: flex-end;
    justify-content: space-between;
    flex-wrap: wrap;
  }
  .hours {
    display: flex;
    align-items: flex-end;
    gap: 2px;
    height: 1.75rem;
    border-bottom: 1px solid var(--cds-ui-04);
  }
  .hours span {
    width: 8px;
    background: var(--cds-text-02);
  }
  .hours .short {
    background: var(--fails);
  }
  .drift li {
    padding: 0.125rem 0;
  }
  .ended {
    color: var(--cds-text-02);
  }
  form {
    display: flex;
    gap: 0.5rem;
    align-items: flex-end;
    flex-wrap: wrap;
    padding-top: 1rem;
    max-width: 52rem;
  }
  form :global(.bx--form-item) {
    flex: 1 1 16rem;
  }
  summary {
    cursor: pointer;
    min-height: 1.5rem;
    line-height: 1.5rem;
  }
  .wrong {
    color: var(--fails);
  }
</style>
