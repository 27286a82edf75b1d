<script lang="ts">
  import { Button, InlineLoading } from "carbon-components-svelte";
  import { api, sentence, type Schemas } from "../lib/api";
  import type { Movement } from "../lib/motion";
  import { litBy, Player, together, type Lit } from "../lib/player.svelte";
  import { currentWorkspace } from "../lib/workspace.svelte";
  import Steps from "./Steps.svelte";

  /** A run that shows what a guarantee denies: its message moves on the board, and its steps are listed. */
  let {
    text,
    scenario,
    model,
    edits,
    from,
    to,
    what,
    at,
    onlit,
    onmove,
  }: {
    text: string;
    scenario: string;
    model: string;
    edits: boolean;
    from: string;
    to: string;
    what: "lost" | "repeated" | "overtaken";
    at: number;
    onlit: (lit: Lit) => void;
    onmove: (movements: Movement[]) => void;
  } = $props();

  let found = $state.raw<Schemas["Witness"] | undefined>();
  let trouble = $state("");
  let saved = $state("");
  const player = new Player((movements) => onmove(movements));

  const play = () => player.play(together(found?.journeys ?? []));
  async function search() {
    found = undefined;
    trouble = "";
    const { data, error } = await api.POST("/api/v1/witness", { body: { text, scenario, from, to, what, at } });
    trouble = error ? sentence(error) : "";
    found = data;
    if (data?.found) play();
  }
  $effect(() => {
    search();
    return () => player.stop();
  });
  $effect(() => {
    if (!found?.found) return;
    onlit(litBy(player.steps.slice(0, player.shown)));
  });

  const name = $derived(/^name: (\S+)/m.exec(found?.scenario ?? "")?.[1] ?? "witness");
  async function save() {
    const { error } = await api.PUT("/api/v1/workspaces/{workspace}/models/{name}/scenarios/{text}", {
      params: { path: { workspace: currentWorkspace(), name: model, text: name } },
      body: { text: found?.scenario ?? "" },
    });
    trouble = error ? sentence(error) : "";
    saved = error ? "" : name;
  }
  /** What a message of the witness is called: of two, by which of them it is. */
  function title(journey: Schemas["Journey"], k: number): string {
    const message = journey.key ? `Message ${journey.key}` : `Message ${journey.journey}`;
    return what === "overtaken" ? `${["Enters first", "Overtakes it"][k]}: ${message}` : message;
  }
</script>

<div class="witness">
  {#if trouble}<p class="wrong" role="alert">{trouble}</p>{/if}
  {#if found && !found.found}
    <p class="quiet">
      {found.ended
        ? "The search was ended before all scenarios were tried; none so far has a message to which it happens."
        : "No run showed it: of the scenarios that were tried, none has a message to which it happens."}
    </p>
  {/if}
  {#if (found && found.ended) || (trouble && !found)}
    <Button size="small" kind="ghost" class="again" on:click={search}>Search again</Button>
  {/if}
  {#if found?.found}
    <div class="acts">
      <Button size="small" kind="ghost" on:click={play}>Play again</Button>
      {#if saved}<span role="status">Saved as scenario {saved}.</span>{:else if edits}
        <Button size="small" kind="ghost" on:click={save}>Save as a scenario</Button>
      {/if}
    </div>
    {#each found.journeys as journey, k (journey.journey)}
      <p class="title">{title(journey, k)}</p>
      <Steps steps={together([{ ...journey, t_s: found.journeys[0].t_s }])} />
    {/each}
  {:else if !found && !trouble}
    <InlineLoading description="Looking for a run that shows it…" />
  {/if}
</div>

<style>
  .witness {
    border-left: 2px solid var(--cds-ui-03);
    padding-left: 0.75rem;
    margin: 0.25rem 0 0.5rem;
    overflow-x: auto;
  }
  .acts {
    display: flex;
    align-items: center;
    gap: 0.5rem;
    margin-left: -0.75rem;
  }
  p {
    font-size: inherit;
  }
  .title {
    font-weight: 600;
  }
  .wrong {
    color: var(--cds-support-01);
  }
</style>
