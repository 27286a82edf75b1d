<script lang="ts">
  import { Button, Checkbox, Form, InlineNotification, NumberInput, TextArea } from "carbon-components-svelte";
  import { api, sentence, type Schemas } from "../lib/api";

  let limits = $state<Schemas["Settings"] | undefined>();
  let trouble = $state("");
  let saved = $state(false);

  api.GET("/api/v1/settings").then(({ data, error }) => {
    if (error) trouble = sentence(error);
    else limits = { ...data, keep_observed_days: data.keep_observed_days ?? 0 };
  });

  async function save(e: Event) {
    e.preventDefault();
    if (!limits) return;
    const { error } = await api.PUT("/api/v1/settings", { body: limits });
    trouble = error ? sentence(error) : "";
    saved = !error;
  }
</script>

<h2>Limits of runs</h2>
<p>A run that meets a limit ends with what it has, and says which limit it was.</p>
{#if trouble}<InlineNotification lowContrast kind="error" title="The limits were not saved." subtitle={trouble} />{/if}
{#if saved}<InlineNotification
    lowContrast
    kind="success"
    title="Kept."
    subtitle="Runs in progress keep the limits that they began with."
  />{/if}
{#if limits}
  <Form on:submit={save} class="narrow">
    <NumberInput labelText="Events of one replication" min={1000} bind:value={limits.max_events} />
    <NumberInput labelText="Copies in flight" min={1000} bind:value={limits.max_copies} />
    <NumberInput labelText="Memory of one replication (bytes)" min={1000000} bind:value={limits.max_memory} />
    <NumberInput
      labelText="Wall time of one replication or point (seconds)"
      min={1}
      max={86400}
      bind:value={limits.max_s}
    />
    <h2>Retention</h2>
    <NumberInput labelText="Runs, days kept (0: no limit)" min={0} max={36500} bind:value={limits.keep_runs_days} />
    <NumberInput
      labelText="The audit trail, days kept (0: no limit)"
      min={0}
      max={36500}
      bind:value={limits.keep_audit_days}
    />
    <NumberInput
      labelText="What was observed, days kept (0: no limit)"
      min={0}
      max={36500}
      bind:value={limits.keep_observed_days}
    />
    <h2>Webhooks</h2>
    <TextArea
      labelText="Addresses to which models may send drift, one a line"
      placeholder="none"
      rows={3}
      value={(limits.webhooks ?? []).join("\n")}
      on:input={(e) =>
        limits && (limits.webhooks = (e.target as HTMLTextAreaElement).value.split(/\s+/).filter(Boolean))}
    />
    <h2>Share links</h2>
    <Checkbox labelText="Share links open without an account" bind:checked={limits.open_shares} />
    <Button type="submit" size="small">Keep</Button>
  </Form>
{/if}
