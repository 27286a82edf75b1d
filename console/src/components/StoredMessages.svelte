<script lang="ts">
  import { Button, InlineLoading, InlineNotification, Select, SelectItem, Slider } from "carbon-components-svelte";
  import { api, sentence, type Schemas } from "../lib/api";
  import { currentWorkspace } from "../lib/workspace.svelte";
  import { count, duration } from "../lib/format";
  import { zone } from "../lib/zone.svelte";

  let { run, nodes, length, start }: { run: number; nodes: string[]; length: number; start: string } = $props();

  let node = $state("");
  let minute = $state(0);
  let found = $state.raw<Schemas["AtRest"] | undefined>();
  let looking = $state(false);
  let trouble = $state("");

  $effect(() => {
    if (!node && nodes.length) node = nodes[0];
  });

  const clock = $derived(
    zone.format(Date.parse(start) + minute * 60_000, {
      weekday: "short",
      hour: "2-digit",
      minute: "2-digit",
      timeZoneName: "short",
    }),
  );

  async function look() {
    [looking, trouble] = [true, ""];
    const { data, error } = await api.GET("/api/v1/workspaces/{workspace}/runs/{id}/rest", {
      params: { path: { workspace: currentWorkspace(), id: run }, query: { node, at: Math.min(minute * 60, length) } },
    });
    looking = false;
    if (error) trouble = sentence(error);
    else found = data;
  }
</script>

<section aria-label="Stored messages">
  <form onsubmit={(e) => (e.preventDefault(), look())}>
    <Select size="sm" labelText="Node" bind:selected={node}
      >{#each nodes as n (n)}<SelectItem value={n} text={n} />{/each}</Select
    >
    <Slider labelText="At minute ({clock})" min={0} max={Math.floor(length / 60)} bind:value={minute} />
    <Button size="small" kind="tertiary" type="submit" disabled={looking}>Show messages</Button>
  </form>
  {#if trouble}<InlineNotification
      kind="error"
      lowContrast
      title="The messages could not be loaded."
      subtitle={trouble}
      on:close={() => (trouble = "")}
    />{/if}
  {#if looking}
    <InlineLoading description="Simulating the first replication up to this minute" />
  {:else if found}
    <p>
      {count(found.count)}
      {found.count === 1 ? "message" : "messages"} in {found.node} after {duration(found.at_s)}{found.messages &&
      found.messages.length < found.count
        ? `; the oldest ${count(found.messages.length)} are listed`
        : ""}.
    </p>
    {#if found.messages?.length}
      <div class="list">
        <table>
          <thead
            ><tr
              ><th>Key</th><th class="num">Age</th><th class="num">Tries</th><th>State</th><th class="num">Journey</th
              ><th>Event</th></tr
            ></thead
          >
          <tbody>
            {#each found.messages as m, i (i)}
              <tr
                ><td class="mono">{m.key ?? ""}</td><td class="num">{duration(m.age_s)}</td><td class="num"
                  >{m.tries}</td
                ><td>{m.state}</td><td class="num">{m.journey}</td><td
                  ><details>
                    <summary>{m.event?.["type"] ?? "event"}</summary>
                    <pre>{JSON.stringify(m.event, null, 2)}</pre>
                  </details></td
                ></tr
              >
            {/each}
          </tbody>
        </table>
      </div>
    {/if}
  {/if}
</section>

<style>
  form {
    display: flex;
    flex-wrap: wrap;
    gap: 1rem;
    align-items: end;
    margin-bottom: 0.5rem;
  }
  form > :global(.bx--form-item) {
    flex: 0 1 auto;
  }
  form > :global(.bx--form-item:has(select)) {
    flex-basis: 16rem;
  }
  .list {
    max-height: 18rem;
    overflow: auto;
    font-size: 0.8125rem;
  }
  table {
    border-collapse: collapse;
  }
  th {
    text-align: left;
    color: var(--cds-text-02);
    font-weight: 600;
    position: sticky;
    top: 0;
    background: var(--cds-ui-background);
  }
  th,
  td {
    padding: 0.125rem 1rem 0.125rem 0;
    border-bottom: 1px solid var(--cds-ui-03);
  }
  .num {
    text-align: right;
  }
  summary {
    cursor: pointer;
    color: var(--cds-link-01);
  }
  pre {
    font:
      0.75rem/1.4 "IBM Plex Mono",
      monospace;
    max-width: 32rem;
    white-space: pre-wrap;
  }
</style>
