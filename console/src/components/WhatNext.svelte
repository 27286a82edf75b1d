<script lang="ts">
  import { Button, Modal } from "carbon-components-svelte";
  import { api, sentence, type Finding, type Schemas } from "../lib/api";
  import { command } from "../lib/command";
  import { causes } from "../lib/finding-groups";
  import { condition, effectWords } from "../lib/guarantees";
  import { decisive, remediable, weakest } from "../lib/next";
  import CodeText from "./CodeText.svelte";

  let {
    open = $bindable(false),
    text,
    findings,
    guesses,
    scenario,
    edits,
    onapply,
    onpair,
    onfinding,
  }: {
    open: boolean;
    text: string;
    findings: Finding[];
    guesses: string[];
    scenario: string; // the text of the scenario that is chosen; "": none is
    edits: boolean;
    onapply: (remedies: Finding["remedies"]) => void;
    onpair: (from: string, to: string) => void;
    onfinding: (finding: Finding) => void;
  } = $props();

  const errors = $derived(findings.some((f) => !f.accepted && f.severity === "error"));
  const finding = $derived(remediable(findings));
  let plan = $state.raw<Schemas["MendDocument"] | undefined>();
  let pair = $state.raw<Schemas["CheckGuarantee"] | undefined>();
  let measured = $state.raw<ReturnType<typeof decisive> | "none" | undefined>();
  let measuring = $state(false);
  let trouble = $state("");
  let looking = $state(false);

  $effect(() => {
    if (open) look(text);
  });
  async function look(model: string) {
    [plan, pair, measured, trouble, looking] = [undefined, undefined, undefined, "", true];
    const [mended, guaranteed] = await Promise.all([
      errors ? api.POST("/api/v1/mend", { body: { text: model } }) : undefined,
      api.POST("/api/v1/guarantees", { body: { text: model } }),
    ]);
    if (model !== text) return; // it has changed meanwhile
    looking = false;
    plan = mended?.data;
    pair = weakest(guaranteed.data?.guarantees ?? []);
    const error = mended?.error ?? guaranteed.error;
    if (error) trouble = sentence(error);
  }

  const lost = (b: Schemas["CheckBreach"]) =>
    "Lost at `" + (b.link || b.node) + "` " + condition(b.fault) + ": " + (causes[b.why] ?? b.why) + ".";

  /** Asks which guess decides: a few hundred runs of the scenario. */
  async function measure() {
    measuring = true;
    const files: Record<string, string> = { "model.yaml": text };
    const args = ["model.yaml", "-replications", "1", "-trajectories", "4", "-points", "0", "-format", "json"];
    if (scenario) {
      files["scenario.yaml"] = scenario;
      args.push("-scenario", "scenario.yaml");
    }
    const { out, err, error } = await command("sensitivity", args, files);
    measuring = false;
    try {
      measured = decisive(JSON.parse(out)) ?? "none";
    } catch {
      trouble = error ? sentence(error) : err || "The command printed no result.";
    }
  }
</script>

<Modal bind:open passiveModal size="sm" modalHeading="What next?">
  {#if trouble}<p class="wrong" role="alert">{trouble}</p>{/if}
  <section aria-label="The change that helps most">
    <h3>Change</h3>
    {#if looking && errors}
      <p class="quiet">Looking for the fewest changes that leave no error…</p>
    {:else if plan?.changes?.length}
      <p><CodeText text={plan.changes[0].say} />.</p>
      <p class="quiet">
        {plan.changes.length === 1
          ? "It alone leaves"
          : `It is the first of ${plan.changes.length} that together leave`}
        {plan.after.errors}
        {plan.after.errors === 1 ? "error" : "errors"} and {plan.after.warnings}
        {plan.after.warnings === 1 ? "warning" : "warnings"}: checked on a copy. Now there are {plan.before.errors} and {plan
          .before.warnings}.
      </p>
      {#if edits}
        <Button kind="tertiary" size="small" on:click={() => ((open = false), onapply(plan!.changes.slice(0, 1)))}
          >Apply it</Button
        >
        {#if plan.changes.length > 1}
          <Button kind="ghost" size="small" on:click={() => ((open = false), onapply(plan!.changes))}
            >Apply all {plan.changes.length}</Button
          >
        {/if}
      {/if}
    {:else if finding}
      <p><CodeText text={finding.remedies[0].say} />.</p>
      <p class="quiet"><CodeText text="It removes {finding.code} {finding.title}: {finding.message}" /></p>
      {#if edits}
        <Button kind="tertiary" size="small" on:click={() => ((open = false), onapply(finding.remedies.slice(0, 1)))}
          >Apply it</Button
        >
      {/if}
      <Button kind="ghost" size="small" on:click={() => ((open = false), onfinding(finding))}>Show the finding</Button>
    {:else}
      <p>No finding has a remedy left.</p>
    {/if}
  </section>
  <section aria-label="The weakest guarantee">
    <h3>Weakest guarantee</h3>
    {#if pair}
      <p>
        From <b>{pair.from}</b> to <b>{pair.to}</b>: {effectWords(pair.effects.no_fault)} without a fault,
        {effectWords(pair.effects.one_fault)} with one; survives {pair.survives}
        {pair.survives === 1 ? "fault" : "faults"}.
      </p>
      {#if pair.losses.length}
        <p class="quiet"><CodeText text={lost(pair.losses[0])} /></p>
      {/if}
      <Button kind="ghost" size="small" on:click={() => ((open = false), onpair(pair!.from, pair!.to))}
        >Show its paths</Button
      >
    {:else if looking}
      <p class="quiet">Working the guarantees out…</p>
    {:else}
      <p>No message of an entry takes effect anywhere yet.</p>
    {/if}
  </section>
  <section aria-label="The guess to measure">
    <h3>Guess to measure first</h3>
    {#if guesses.length === 0}
      <p>
        The model states no guesses. Write <span class="mono">takes: {"{guess: 600ms, range: [300ms, 1.5s]}"}</span> where
        a value is not known, and this says which one decides.
      </p>
    {:else if measured === "none"}
      <p>None of the {guesses.length} guesses changes the result within its range: none has to be measured.</p>
    {:else if measured}
      <p><span class="mono">{measured.input.path}</span>, between {measured.input.range.join(" and ")}.</p>
      <p class="quiet">
        {measured.input.turns_at
          ? `${measured.of} turns at ${measured.input.turns_at}.`
          : `It changes ${measured.of} the most.`}
      </p>
    {:else}
      <p>{guesses.length} {guesses.length === 1 ? "value is a guess" : "values are guesses"}.</p>
      <Button kind="ghost" size="small" disabled={measuring} on:click={measure}
        >{measuring ? "Running…" : "Find out which one decides"}</Button
      >
    {/if}
  </section>
</Modal>

<style>
  section {
    padding-bottom: 1rem;
  }
  h3 {
    font-size: 0.875rem;
    font-weight: 600;
    padding-bottom: 0.25rem;
  }
  p {
    font-size: 0.875rem;
    padding: 0 0 0.25rem;
  }
  .wrong {
    color: var(--cds-support-01);
  }
</style>
