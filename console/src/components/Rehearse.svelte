<script lang="ts">
  import { Checkbox, Modal, Select, SelectItem } from "carbon-components-svelte";
  import { api, sentence, problems, type Schemas } from "../lib/api";
  import { currentWorkspace } from "../lib/workspace.svelte";
  import { clock } from "../lib/live";
  import { navigate, p } from "../router";

  let {
    open = $bindable(),
    model,
    scenarios,
    before,
  }: { open: boolean; model: string; scenarios: Schemas["Scenario"][]; before: () => Promise<boolean> } = $props();

  let scenario = $state("");
  let pace = $state("1");
  let paused = $state(false);
  let hooks = $state(false);
  let wrong = $state("");
  let going = $state.raw<Schemas["Rehearsal"][]>([]);

  $effect(() => {
    if (!open) return;
    api
      .GET("/api/v1/workspaces/{workspace}/rehearsals", { params: { path: { workspace: currentWorkspace() } } })
      .then(({ data }) => (going = (data?.items ?? []).filter((r) => r.model === model)));
  });

  async function start() {
    wrong = "";
    if (!(await before())) {
      open = false;
      return;
    }
    const { data, error } = await api.POST("/api/v1/workspaces/{workspace}/models/{name}/rehearsals", {
      params: { path: { workspace: currentWorkspace(), name: model } },
      body: { scenario, pace: Number(pace), paused, hooks },
    });
    if (error) wrong = [sentence(error), ...problems(error).map((t) => t.message)].join(" ");
    else navigate("/w/:workspace/rehearsals/:id", { params: { workspace: currentWorkspace(), id: data.id } });
  }
</script>

<Modal
  bind:open
  size="sm"
  hasForm
  modalHeading="Rehearse {model}"
  primaryButtonText="Start"
  secondaryButtonText="Cancel"
  on:click:button--secondary={() => (open = false)}
  on:submit={start}
>
  <div class="options">
    <p class="quiet">
      The model goes on live, at the pace of the clock or a multiple. Send events, break things and heal them; whoever
      opens the page watches with you.
    </p>
    {#if going.length}
      <div>
        <p>Going on now:</p>
        <ul>
          {#each going as r (r.id)}<li>
              <a href={p("/w/:workspace/rehearsals/:id", { params: { workspace: currentWorkspace(), id: r.id } })}
                >{r.author}'s, {clock(r.state?.now_s ?? 0)} in, {r.scenario || "nothing but what is sent"}</a
              >
            </li>{/each}
        </ul>
      </div>
    {/if}
    <Select labelText="Traffic" bind:selected={scenario}>
      <SelectItem value="" text="nothing but what is sent by hand, and what schedules send" />
      {#each scenarios as s (s.name)}<SelectItem value={s.name} text="traffic and incidents of {s.name}" />{/each}
    </Select>
    <Select labelText="Pace" bind:selected={pace}
      >{#each ["1", "10", "60", "600"] as x (x)}<SelectItem
          value={x}
          text={x === "1" ? "that of the clock" : `${x} times the clock`}
        />{/each}</Select
    >
    <Checkbox labelText="Start paused" bind:checked={paused} />
    <Checkbox
      labelText="Let functions with a hook be answered by it (where the service allows it)"
      bind:checked={hooks}
    />
    {#if wrong}<p class="wrong" role="alert">{wrong}</p>{/if}
  </div>
</Modal>

<style>
  .options {
    display: grid;
    gap: 1rem;
  }
  .options li a {
    display: inline-block;
    min-height: 1.5rem;
    line-height: 1.5rem;
  }
  .wrong {
    color: var(--cds-text-error, #da1e28);
  }
</style>
