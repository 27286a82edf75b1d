<script lang="ts">
  import { Button, CodeSnippet, InlineLoading } from "carbon-components-svelte";
  import { onDestroy } from "svelte";
  import { api, sentence, type Schemas } from "../lib/api";
  import { currentWorkspace } from "../lib/workspace.svelte";
  import { count, duration, share } from "../lib/format";

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
  const value = (what: string, x: number) => (what === "fails" ? share(x) : duration(x));
  const lists = $derived(
    seen
      ? ([
          ["Observed, not in the model", [...seen.drift.not_modelled.nodes, ...seen.drift.not_modelled.links]],
          ["In the model, not observed", [...seen.drift.not_observed.nodes, ...seen.drift.not_observed.links]],
        ] as const)
      : [],
  );
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
  {#each lists as [title, names] (title)}
    {#if names.length}<h3>{title}</h3>
      <ul>
        {#each names as n (n)}<li class="mono">{n}</li>{/each}
      </ul>{/if}
  {/each}
  {#if seen.drift.different.length}
    <h3>Significant differences (99%)</h3>
    <table>
      <thead
        ><tr
          ><th>Node</th><th></th><th class="num">Model</th><th class="num">Observed</th><th class="num">99% interval</th
          ><th class="num">Seen</th></tr
        ></thead
      >
      <tbody>
        {#each seen.drift.different as d (d.node + d.what)}
          <tr
            ><td class="mono">{d.node}</td><td>{d.what === "fails" ? "fails" : "takes, mean"}</td><td class="num"
              >{value(d.what, d.model)}</td
            ><td class="num">{value(d.what, d.observed)}</td><td class="num"
              >{d.interval.map((x) => value(d.what, x)).join(" to ")}</td
            ><td class="num">{count(d.seen)}</td></tr
          >
        {/each}
      </tbody>
    </table>
  {/if}
  {#if Object.keys(seen.patch).length}
    <h3>The change that brings it into the model</h3>
    <ul>
      {#each seen.comments as c (c)}<li>{c}</li>{/each}
    </ul>
    <details>
      <summary>As a merge patch</summary>
      <pre>{JSON.stringify(seen.patch, null, 1)}</pre>
    </details>
    {#if edits}<Button size="small" on:click={adopt}>Save as a revision of {model}</Button>{/if}
  {:else if lists.every(([, n]) => n.length === 0)}
    <p>No significant difference (99%).</p>
  {/if}
  {#if said}<p role="status">{said}</p>{/if}
{/if}

<style>
  h3 {
    font-size: 0.8125rem;
    font-weight: 600;
    padding: 0.75rem 0 0.25rem;
  }
  p {
    font-size: inherit;
  }
  table {
    border-collapse: collapse;
    width: 100%;
  }
  th {
    text-align: left;
    color: var(--cds-text-02);
  }
  th,
  td {
    padding: 0.125rem 0.5rem 0.125rem 0;
    border-bottom: 1px solid var(--cds-ui-03);
  }
  pre {
    overflow: auto;
    font-size: 0.75rem;
  }
  summary {
    cursor: pointer;
    min-height: 1.5rem;
    line-height: 1.5rem;
  }
  .wrong {
    color: var(--loops);
  }
</style>
