<script lang="ts">
  import { Button, NumberInput, Select, SelectItem, TextInput } from "carbon-components-svelte";
  import { api, sentence, type Board, type Schemas } from "../lib/api";
  import { inForce, type State } from "../lib/live";
  import { count, duration } from "../lib/format";

  let {
    path,
    board,
    stands,
    node,
    link,
    edits,
    ontrouble,
  }: {
    path: { workspace: string; id: string };
    board: Board;
    stands: State;
    node: string;
    link: string;
    edits: boolean;
    ontrouble: (why: string) => void;
  } = $props();

  let times = $state<number | null>(5);
  let most = $state<number | null>(1);
  let share = $state<number | null>(100);
  let rate = $state("1/s");
  let to = $state("");
  let lying = $state.raw<
    { node: string; count: number; messages: Schemas["Resting"][]; back_to: string[] } | undefined
  >();
  let open = $state.raw<{ message: number; event: unknown } | undefined>();

  const kind = $derived(board.nodes.find((n) => n.name === node)?.kind ?? "");
  const live = $derived(stands.nodes[node]);
  const force = $derived(live ? inForce(live) : []);
  const readers = $derived(board.links.filter((l) => l.from === node && l.stroke !== "dead-letter").map((l) => l.id));
  const name = (id: string) => (link ? id : id.slice(id.indexOf(":") + 1));
  const targets = $derived(board.nodes.filter((n) => n.kind !== "schedule").map((n) => n.name));

  async function interfere(body: Record<string, unknown>) {
    const { error } = await api.POST("/api/v1/workspaces/{workspace}/rehearsals/{id}/incidents", {
      params: { path },
      body,
    });
    ontrouble(error ? sentence(error) : "");
  }
  async function heal(target: string) {
    const { error } = await api.POST("/api/v1/workspaces/{workspace}/rehearsals/{id}/heal", {
      params: { path },
      body: { target },
    });
    ontrouble(error ? sentence(error) : "");
  }

  // What lies there is looked up when the node is chosen, and as its counts change.
  const changes = $derived(live ? `${node} ${live.copies} ${live.depth} ${live.runs} ${live.handled}` : "");
  let asked = "";
  let timer: ReturnType<typeof setTimeout> | undefined;
  $effect(() => {
    if (!node || changes === asked || timer) return;
    const wanted = changes;
    timer = setTimeout(
      async () => {
        timer = undefined;
        asked = wanted;
        await look();
      },
      lying?.node === node ? 400 : 0,
    );
  });
  async function look() {
    const { data } = await api.GET("/api/v1/workspaces/{workspace}/rehearsals/{id}/nodes/{node}/messages", {
      params: { path: { ...path, node } },
    });
    if (data && data.node === node) {
      lying = data;
      if (!targets.includes(to)) to = data.back_to[0] ?? targets[0] ?? "";
    }
  }
  $effect(() => {
    void node;
    open = undefined;
    if (lying && lying.node !== node) [lying, to] = [undefined, ""];
  });

  async function read(message: number) {
    if (open?.message === message) {
      open = undefined;
      return;
    }
    const { data, error } = await api.GET("/api/v1/workspaces/{workspace}/rehearsals/{id}/messages/{message}", {
      params: { path: { ...path, message } },
    });
    if (error) ontrouble(sentence(error));
    else open = { message, event: data };
  }
  async function move(message: number, target: string) {
    const at = { params: { path: { ...path, message } } };
    const { error } = target
      ? await api.POST("/api/v1/workspaces/{workspace}/rehearsals/{id}/messages/{message}", {
          ...at,
          body: { to: target },
        })
      : await api.DELETE("/api/v1/workspaces/{workspace}/rehearsals/{id}/messages/{message}", at);
    ontrouble(error ? sentence(error) : "");
    await look();
  }
</script>

{#snippet paused(id: string)}
  {#if stands.links[id]?.paused}
    <Button size="small" kind="primary" disabled={!edits} on:click={() => heal(id)}>Resume {name(id)}</Button>
  {:else}
    <Button size="small" kind="tertiary" disabled={!edits} on:click={() => interfere({ link: id, paused: true })}
      >Pause {name(id)}</Button
    >
  {/if}
  <Button
    size="small"
    kind="ghost"
    disabled={!edits}
    on:click={() => interfere({ link: id, enabled: stands.links[id]?.off === true })}
    >Switch {name(id)} {stands.links[id]?.off ? "on" : "off"}</Button
  >
{/snippet}

{#if link}
  <h2>{link}</h2>
  <p class="quiet">
    {count(stands.links[link]?.messages ?? 0)} messages so far{stands.links[link]?.paused ? "; paused" : ""}{stands
      .links[link]?.off
      ? "; switched off"
      : ""}.
  </p>
  {#if stands.links[link]}<div class="presses">{@render paused(link)}</div>{/if}
{:else if !live}
  <p class="quiet">
    Select a node on the board to see its messages and to fail, slow, stop or throttle it; or a link to pause it.
  </p>
{:else}
  <h2>
    {node} <span class="quiet">{kind}{force.length ? ": " : ""}</span><span class="force">{force.join(", ")}</span>
  </h2>
  <p class="numbers">
    {#each [["received", live.copies], ["queued", live.depth], ["running", live.running], ["runs", live.runs], ["failed", live.failures], ["throttled", live.throttled], ["parked", live.parked], ["lost", live.lost]] as const as [what, n] (what)}
      {#if n || what === "received"}<span class={n > 0 ? what : undefined}><b>{count(n)}</b> {what}</span>{/if}
    {/each}
    {#if live.hook?.answers}<span class:bad={live.hook.failed > 0}
        >hook <b>{duration(live.hook.last_s)}</b>, {duration(live.hook.mean_s)} on average{live.hook.failed
          ? `, ${count(live.hook.failed)} of ${count(live.hook.answers)} failed`
          : ""}</span
      >{/if}
    {#if live.oldest_s}<span>the oldest for {duration(live.oldest_s)}</span>{/if}
  </p>
  {#if edits}
    <div class="presses">
      {#if kind === "schedule"}
        <Button size="small" kind="danger-tertiary" on:click={() => interfere({ node, enabled: live.off === true })}
          >{live.off ? "Switch on" : "Switch off"}</Button
        >
      {:else}
        <span class="press"
          ><Button size="small" kind="danger-tertiary" on:click={() => interfere({ node, fails: (share ?? 100) / 100 })}
            >Fail</Button
          ><NumberInput
            size="sm"
            hideLabel
            labelText="Share that fails, in percent"
            hideSteppers
            min={0}
            max={100}
            bind:value={share}
          /> %</span
        >
        <span class="press"
          ><Button size="small" kind="tertiary" on:click={() => interfere({ node, slow: times ?? 5 })}>Slow</Button
          ><NumberInput size="sm" hideLabel labelText="Times as slow" hideSteppers min={0.01} bind:value={times} /> ×</span
        >
        {#if kind === "function" || kind === "workflow" || kind === "outside"}
          <Button
            size="small"
            kind="danger-tertiary"
            on:click={() => interfere({ node, stopped: live?.stopped !== true })}
            >{live.stopped ? "Start" : "Stop"}</Button
          >
          <Button size="small" kind="danger-tertiary" on:click={() => interfere({ node, crash: true })}>Crash</Button>
          <span class="press"
            ><Button size="small" kind="tertiary" on:click={() => interfere({ node, concurrency: most ?? 1 })}
              >Throttle</Button
            ><NumberInput size="sm" hideLabel labelText="Concurrency" hideSteppers min={0} bind:value={most} /> concurrent</span
          >
        {/if}
      {/if}
      {#if force.length}<Button size="small" on:click={() => heal(node)}>Heal</Button>{/if}
    </div>
    {#if kind === "queue" || kind === "stream" || kind === "table"}
      <div class="presses">
        {#each readers as id (id)}{@render paused(id)}{/each}
      </div>
    {/if}
  {/if}
  {#if lying && lying.node === node}
    <h3>
      {lying.count === 0
        ? "No messages are stored here"
        : `${count(lying.count)} ${lying.count === 1 ? "message is" : "messages are"} stored here`}{lying.messages
        .length < lying.count
        ? `; the oldest ${count(lying.messages.length)}`
        : ""}
    </h3>
    {#if lying.count && edits}
      <div class="row">
        <Select size="sm" labelText="Send to" bind:selected={to}>
          {#each [...lying.back_to, ...targets.filter((t) => !lying?.back_to.includes(t))] as t (t)}<SelectItem
              value={t}
              text={lying.back_to.includes(t) ? `${t} (back)` : t}
            />{/each}
        </Select>
        {#if kind === "queue"}
          <TextInput size="sm" labelText="at a rate" bind:value={rate} />
          <Button size="small" kind="tertiary" on:click={() => interfere({ "send-back": { from: node, to, rate } })}
            >Send all</Button
          >
          <Button size="small" kind="ghost" on:click={() => heal(node)}>Stop sending</Button>
        {/if}
      </div>
    {/if}
    {#each lying.messages.slice(0, 100) as m (m.message)}
      <div class="message">
        <button class="key" onclick={() => read(m.message)} aria-expanded={open?.message === m.message}
          >{m.key || `message ${m.message}`}</button
        >
        <span class="quiet"
          >{duration(m.age_s)}{m.tries ? `, ${m.tries} ${m.tries === 1 ? "try" : "tries"}` : ""}, {m.state}{m.link
            ? `, ${m.link}`
            : ""}</span
        >
        {#if edits}<span class="acts"
            ><Button size="small" kind="ghost" on:click={() => move(m.message, to)}>Send</Button><Button
              size="small"
              kind="ghost"
              on:click={() => move(m.message, "")}>Remove</Button
            ></span
          >{/if}
        {#if open?.message === m.message}<pre>{JSON.stringify(open.event, null, 1)}</pre>{/if}
      </div>
    {/each}
  {/if}
{/if}

<style>
  h2 {
    font-size: 1rem;
    font-weight: 600;
  }
  h3 {
    font-size: 0.8125rem;
    font-weight: 600;
    padding: 1rem 0 0.25rem;
  }
  .force,
  .failed,
  .bad {
    color: var(--fails);
  }
  .lost {
    color: var(--loses);
  }
  .parked {
    color: var(--parked);
  }
  .numbers {
    display: flex;
    flex-wrap: wrap;
    gap: 0.25rem 1rem;
    padding: 0.25rem 0 0.5rem;
    font-size: inherit;
  }
  .presses {
    display: flex;
    flex-wrap: wrap;
    gap: 0.5rem 1rem;
    align-items: center;
    padding: 0.25rem 0;
  }
  .press {
    display: inline-flex;
    align-items: center;
    gap: 0.25rem;
  }
  .press :global(.bx--form-item) {
    width: 4rem;
    min-width: 4rem;
  }
  .press :global(.bx--number input[type="number"]) {
    min-width: 4rem;
    width: 4rem;
    padding-right: 0.25rem;
  }
  .row {
    display: flex;
    gap: 0.5rem;
    align-items: end;
    flex-wrap: wrap;
  }
  .row > :global(.bx--form-item) {
    flex: 0 1 10rem;
  }
  .message {
    display: grid;
    grid-template-columns: minmax(0, 1fr) auto;
    align-items: center;
    border-top: 1px solid var(--cds-ui-03);
    padding: 0.125rem 0;
  }
  .message .quiet {
    grid-row: 2;
  }
  .key {
    font-family: "IBM Plex Mono", monospace;
    background: none;
    border: none;
    color: var(--cds-link-01);
    cursor: pointer;
    padding: 0;
    min-height: 1.5rem;
    font-size: inherit;
    text-align: left;
  }
  .acts {
    grid-column: 2;
    grid-row: 1 / 3;
  }
  pre {
    grid-column: 1 / -1;
    grid-row: 3;
    overflow: auto;
    font-size: 0.75rem;
    background: var(--cds-ui-01);
    padding: 0.5rem;
  }
</style>
