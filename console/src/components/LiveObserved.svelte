<script lang="ts">
  import { Button, CodeSnippet, InlineLoading } from "carbon-components-svelte";
  import { onDestroy } from "svelte";
  import { api, sentence, type Schemas } from "../lib/api";
  import { currentWorkspace } from "../lib/workspace.svelte";
  import { count } from "../lib/format";
  import Compared from "./Compared.svelte";

  let {
    path,
    model,
    revision,
    text,
    edits,
    onseen,
  }: {
    path: { workspace: string; id: string };
    model: string;
    revision: number;
    text: string;
    edits: boolean;
    onseen: (seen: Schemas["RehearsalBeside"] | undefined) => void;
  } = $props();

  let seen = $state.raw<Schemas["RehearsalBeside"] | undefined>();
  let said = $state("");

  async function look() {
    const { data, error } = await api.GET("/api/v1/workspaces/{workspace}/rehearsals/{id}/observed", {
      params: { path },
    });
    if (error) said = sentence(error);
    else onseen((seen = data));
  }
  look();
  onDestroy(() => onseen(undefined));

  async function adopt() {
    const changed = await api.POST("/api/v1/apply", { body: { text, patch: seen?.patch ?? {} } });
    if (!changed.data) {
      said = sentence(changed.error);
      return;
    }
    const { data, error } = await api.POST("/api/v1/workspaces/{workspace}/models/{name}/revisions", {
      params: { path: { workspace: currentWorkspace(), name: model }, header: { "If-Match": `"${revision}"` } },
      body: { text: changed.data.text, note: "as observed" },
    });
    said = error
      ? sentence(error)
      : `Saved as revision ${data.number} of ${model}. This rehearsal goes on with revision ${revision}.`;
  }
</script>

{#if !seen}
  {#if said}<p class="wrong">{said}</p>{:else}<InlineLoading description="Comparing" />{/if}
{:else if seen.all === 0}
  <p class="quiet">
    No traces of the real system received yet. Point its OpenTelemetry exporter here, with a token from the settings:
  </p>
  <CodeSnippet
    type="multi"
    feedback="Copied"
    code={`OTEL_EXPORTER_OTLP_ENDPOINT=${location.origin}/api/v1/workspaces/${path.workspace}/rehearsals/${path.id}\nOTEL_EXPORTER_OTLP_PROTOCOL=http/protobuf\nOTEL_EXPORTER_OTLP_HEADERS="authorization=Bearer TOKEN"`}
  />
  <Button size="small" kind="ghost" on:click={look}>Refresh</Button>
{:else}
  <p>
    {count(seen.all)} spans received{seen.spans < seen.all ? `; the latest ${count(seen.spans)} are used` : ""}, {count(
      seen.traces,
    )} traces. <Button size="small" kind="ghost" on:click={look}>Refresh</Button>
  </p>
  <Compared {seen} adopt={edits ? adopt : undefined} adoptText="Save as a revision of {model}" />
  {#if said}<p role="status">{said}</p>{/if}
{/if}

<style>
  p {
    font-size: inherit;
  }
  .wrong {
    color: var(--fails);
  }
</style>
