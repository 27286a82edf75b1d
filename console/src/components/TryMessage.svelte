<script lang="ts">
  import { Button, MultiSelect, Select, SelectItem, TextArea, TextInput } from "carbon-components-svelte";
  import { untrack } from "svelte";
  import Send from "carbon-icons-svelte/lib/Send.svelte";
  import { api, sentence, problems, type Board, type Schemas } from "../lib/api";
  import { payloadOf, sampleOf } from "../lib/sample";
  import { duration } from "../lib/format";
  import type { Movement } from "../lib/motion";
  import { litBy, Player, type Lit } from "../lib/player.svelte";
  import Steps from "./Steps.svelte";

  let {
    text,
    board,
    chosen,
    onlit,
    onmove,
  }: {
    text: string;
    board: Board;
    chosen: string;
    onlit: (lit: Lit) => void;
    onmove: (movements: Movement[]) => void; // what the message does just now
  } = $props();

  const starts = $derived([...board.nodes].sort((a, b) => Number(b.role === "starts") - Number(a.role === "starts")));
  const runs = $derived(board.nodes.filter((n) => n.role === "works" || n.role === "ends"));

  let node = $state("");
  let key = $state("");
  let data = $state("{}");
  let fail = $state<string[]>([]);
  let wrong = $state("");
  let recorded = $state.raw<Schemas["RunFollowDocument"] | undefined>();
  const player = new Player((movements) => onmove(movements));

  // The node chosen on the board is where the message enters; else the first that starts something.
  $effect(() => {
    const wanted = board.nodes.some((n) => n.name === chosen) ? chosen : node || (starts[0]?.name ?? "");
    if (wanted && wanted !== node) {
      node = wanted;
      sample(wanted);
    }
  });

  // Which links of the node would take what is typed, before anything is sent.
  let taking = $state.raw<Schemas["Taking"][]>([]);
  $effect(() => {
    const [model, at, subject, written] = [text, node, key, data];
    recorded = undefined;
    const timer = setTimeout(async () => {
      let payload: unknown;
      try {
        payload = payloadOf(written);
      } catch {
        return; // not yet JSON: what was known stands
      }
      const { data: answer } = await api.POST("/api/v1/takes", { body: { text: model, key: subject, data: payload } });
      if (answer && at === node) taking = answer.links.filter((l) => l.link.startsWith(at + ":"));
    }, 120);
    return () => clearTimeout(timer);
  });

  async function sample(at: string) {
    const was = untrack(() => [key, data]);
    const example = await sampleOf(text, at);
    const typed = key !== was[0] || data !== was[1]; // meanwhile, which stays
    if (example && at === node && !typed) ({ key, data } = example);
  }

  async function send() {
    wrong = "";
    let payload: unknown;
    try {
      payload = payloadOf(data);
    } catch (e) {
      wrong = (e as Error).message;
      return;
    }
    const { data: doc, error } = await api.POST("/api/v1/follow", {
      body: { text, node, key, data: payload, fail: Object.fromEntries(fail.map((n) => [n, -1])) },
    });
    if (error) {
      recorded = undefined;
      wrong = [sentence(error), ...problems(error).map((t) => t.message)].join(" ");
      return;
    }
    recorded = doc;
    player.play(doc.steps ?? []);
  }
  $effect(() => () => player.stop());

  const steps = $derived(recorded ? player.steps.slice(0, player.shown) : []);
  $effect(() => {
    const lit = litBy(steps);
    const { nodes, links } = lit;
    if (!recorded && taking.length) {
      nodes.set(node, "highlighted");
      for (const l of board.links) {
        if (!taking.some((t) => t.takes && t.link === l.id)) continue;
        links.add(l.id);
        nodes.set(l.to, "highlighted");
      }
    }
    onlit(lit);
  });
</script>

<section aria-label="Try a message">
  <form
    {@attach (form) => form.querySelector(".bx--multi-select")?.setAttribute("role", "group")}
    onsubmit={(e) => (e.preventDefault(), send())}
  >
    <Select size="sm" labelText="Enters at" bind:selected={node} on:change={() => sample(node)}>
      {#each starts as n (n.name)}<SelectItem value={n.name} text="{n.name} · {n.kind}" />{/each}
    </Select>
    <TextInput size="sm" labelText="Key" bind:value={key} />
    <TextArea rows={2} labelText="Payload (JSON)" bind:value={data} />
    <MultiSelect
      size="sm"
      labelText="Fail always"
      label={fail.length ? `${fail.length} selected` : "nothing"}
      items={runs.map((n) => ({ id: n.name, text: n.name }))}
      bind:selectedIds={fail}
    />
    <Button size="small" type="submit" icon={Send}>Send</Button>
    {#if wrong}<p class="wrong">{wrong}</p>{/if}
  </form>
  {#if recorded}
    <div class="recorded" aria-live="polite">
      {#if player.over}
        <p class={recorded.outcome} data-outcome={recorded.outcome}>
          {recorded.outcome}: {Object.entries(recorded.fates ?? {})
            .map(([f, n]) => `${n} ${f.replaceAll("_", "-")}`)
            .join(", ")}{recorded.stopped ? ` — cut off ${recorded.stopped}` : ""}
        </p>
        <p class="quiet plain">
          {recorded.runs}
          {recorded.runs === 1 ? "run" : "runs"} of {duration(recorded.run_time_s)} in all{recorded.cold_starts
            ? `, ${recorded.cold_starts} cold ${recorded.cold_starts === 1 ? "start" : "starts"}`
            : ""}{recorded.cost
            ? `, cost ${recorded.cost.currency} ${recorded.cost.total.toPrecision(3)} without storage`
            : ""}
        </p>
      {/if}
      <Steps {steps} />
    </div>
  {:else}
    {#if taking.length}
      <div class="recorded" role="status" aria-label="Which links accept it">
        <p>Links of {node}</p>
        <ul>
          {#each taking as t (t.link)}<li data-takes={t.takes}>
              <b>{t.takes ? "accepts" : "declines"}</b> <span class="mono">{t.link}</span>{#if t.why}<span class="quiet"
                  >: {t.why}</span
                >{/if}
            </li>{/each}
        </ul>
        <p class="quiet plain">Send it to see each decision, every try, and the fate of each copy.</p>
      </div>
    {:else}
      <p class="quiet hint">
        Send one message at no load and see each link's decision with its reason, every try, and the fate of each copy.
        Select a node on the board to send it there.
      </p>
    {/if}
  {/if}
</section>

<style>
  section {
    display: grid;
    grid-template-columns: minmax(18rem, 1fr) 1.4fr;
    height: 100%;
    font-size: 0.8125rem;
  }
  form {
    display: grid;
    grid-template-columns: 1fr 1fr;
    gap: 0.5rem;
    align-items: end;
    align-content: start;
    padding: 0.5rem 0.75rem;
    overflow: auto;
    border-right: 1px solid var(--cds-ui-03);
  }
  form > :global(.bx--form-item:has(textarea)),
  .wrong {
    grid-column: 1 / -1;
  }
  .recorded {
    overflow: auto;
    padding: 0.5rem 0.75rem;
  }
  .recorded p {
    font-size: inherit;
    font-weight: 600;
    padding-bottom: 0.25rem;
  }
  .recorded ul {
    display: grid;
    gap: 0.25rem;
    padding-bottom: 0.5rem;
  }
  .recorded .plain {
    font-weight: 400;
  }
  [data-takes="true"] b {
    color: var(--fine);
  }
  [data-takes="false"] b {
    color: var(--cds-text-02);
    font-weight: 400;
  }
  .hint {
    padding: 0.75rem;
    font-size: inherit;
  }
  .wrong,
  .failed {
    color: var(--fails);
  }
  .wrong {
    font-size: inherit;
  }
</style>
