<script lang="ts">
  import {
    Checkbox,
    Modal,
    NumberInput,
    RadioButton,
    RadioButtonGroup,
    Select,
    SelectItem,
    TextArea,
    TextInput,
  } from "carbon-components-svelte";
  import { api, type Schemas } from "../lib/api";
  import { currentWorkspace } from "../lib/workspace.svelte";

  let {
    open = $bindable(),
    model,
    scenario,
    onrun,
  }: { open: boolean; model: string; scenario: string; onrun: (request: Schemas["RunRequest"]) => void } = $props();

  let kind = $state("plain");
  let replications = $state<number | null>(null);
  let seed = $state<number | null>(null);
  let variants = $state.raw<Schemas["Scenario"][]>([]);
  let chosen = $state<Record<string, boolean>>({});
  let fresh = $state({ name: "", text: "" });
  let sweep = $state("");
  let output = $state(""); // whose guesses are asked for
  let variant = $state(""); // in which they are asked for
  let wrong = $state("");

  $effect(() => {
    if (!open) return;
    api
      .GET("/api/v1/workspaces/{workspace}/models/{name}/variants", {
        params: { path: { workspace: currentWorkspace(), name: model } },
      })
      .then(({ data }) => (variants = data?.items ?? []));
  });

  /** Reads lines such as `nodes.crop.concurrency: 5, 10, 20`. */
  const axes = $derived(
    sweep
      .split("\n")
      .map((l) => l.trim())
      .filter(Boolean)
      .map((l) => {
        const colon = l.indexOf(":");
        return {
          path: l.slice(0, colon).trim(),
          values: l
            .slice(colon + 1)
            .split(",")
            .map((v) => v.trim())
            .filter(Boolean),
        };
      }),
  );
  const points = $derived(axes.reduce((n, a) => n * a.values.length, axes.length ? 1 : 0));

  async function run() {
    wrong = "";
    if (kind === "variants" && fresh.text.trim()) {
      const { error } = await api.PUT("/api/v1/workspaces/{workspace}/models/{name}/variants/{text}", {
        params: { path: { workspace: currentWorkspace(), name: model, text: fresh.name } },
        body: { text: fresh.text },
      });
      if (error) {
        wrong = [error.detail ?? "", ...(error.errors ?? []).map((e) => e.message ?? "")].join(" ");
        return;
      }
      chosen[fresh.name] = true;
      fresh = { name: "", text: "" };
    }
    const names = Object.keys(chosen).filter((n) => chosen[n]);
    if (kind === "variants" && names.length === 0) wrong = "Choose a variant, or write one.";
    else if (kind === "sweep" && (points === 0 || axes.some((a) => !a.path)))
      wrong = "Write a field and its values, as nodes.consignments.lease: 30s, 60s, 90s";
    else {
      open = false;
      if (kind === "sensitivity") names.splice(0, names.length, ...(variant ? [variant] : []));
      onrun({
        scenario,
        ...(replications ? { replications } : {}),
        ...(seed !== null ? { seed } : {}),
        ...(kind === "variants" || kind === "sensitivity" ? { variants: names } : {}),
        ...(kind === "sensitivity"
          ? { sensitivity: { of: output.trim() ? [output.trim()] : [], trajectories: 6, points: 32 } }
          : {}),
        ...(kind === "sweep" ? { sweep: axes } : {}),
      });
    }
  }
</script>

<Modal
  bind:open
  size="sm"
  hasForm
  modalHeading="Run {scenario}"
  primaryButtonText="Run"
  secondaryButtonText="Cancel"
  on:click:button--secondary={() => (open = false)}
  on:submit={run}
>
  <div class="options">
    <RadioButtonGroup legendText="What to run" bind:selected={kind}>
      <RadioButton value="plain" labelText="the model" />
      <RadioButton value="variants" labelText="variants beside it" />
      <RadioButton value="sweep" labelText="a sweep of values" />
      <RadioButton value="sensitivity" labelText="which guesses decide" />
    </RadioButtonGroup>
    {#if kind === "variants"}
      <p class="quiet">All variants share their random numbers; differences have confidence intervals.</p>
      {#each variants as v (v.name)}<Checkbox labelText={v.name} bind:checked={chosen[v.name]} />{/each}
      <TextInput size="sm" labelText="A new variant" placeholder="more-clearing" bind:value={fresh.name} />
      <TextArea
        rows={3}
        labelText="Changes (a merge patch, YAML)"
        placeholder={"nodes:\n  clear-consignment: {concurrency: 20}"}
        bind:value={fresh.text}
      />
    {:else if kind === "sweep"}
      <TextArea
        rows={3}
        labelText="Fields and their values, one a line"
        placeholder={"nodes.clear-consignment.concurrency: 5, 10, 20\nnodes.consignments.lease: 30s, 90s"}
        helperText={points ? `${points} ${points === 1 ? "point" : "points"}` : "Every combination is run."}
        bind:value={sweep}
      />
    {:else if kind === "sensitivity"}
      <p class="quiet">
        A few hundred runs, as one job: how much each guess of the model moves the result, where an expectation turns,
        and which guess to measure first.
      </p>
      <TextInput
        size="sm"
        labelText="Result to look at"
        placeholder="run.ledger.parked"
        helperText="CEL over the result; empty: the expectations of the scenario"
        bind:value={output}
      />
      <Select size="sm" labelText="Model" bind:selected={variant}>
        <SelectItem value="" text="as it is" />
        {#each variants as v (v.name)}<SelectItem value={v.name} text="with variant {v.name}" />{/each}
      </Select>
    {/if}
    <div class="numbers">
      <NumberInput
        size="sm"
        labelText="Replications"
        helperText="as the scenario says, where empty"
        allowEmpty
        min={1}
        max={10000}
        bind:value={replications}
      />
      <NumberInput
        size="sm"
        labelText="Seed"
        helperText="as the scenario says, where empty"
        allowEmpty
        min={0}
        bind:value={seed}
      />
    </div>
    {#if wrong}<p class="wrong" role="alert">{wrong}</p>{/if}
  </div>
</Modal>

<style>
  .options {
    display: grid;
    gap: 1rem;
  }
  .numbers {
    display: grid;
    grid-template-columns: 1fr 1fr;
    gap: 1rem;
  }
  .wrong {
    color: var(--cds-text-error, #da1e28);
  }
</style>
