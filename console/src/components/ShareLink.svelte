<script lang="ts">
  import { Button, CodeSnippet, Modal, NumberInput } from "carbon-components-svelte";
  import Share from "carbon-icons-svelte/lib/Share.svelte";
  import Later from "./Later.svelte";
  import { api, sentence, type Schemas } from "../lib/api";
  import { when } from "../lib/format";
  import { currentWorkspace } from "../lib/workspace.svelte";

  /** Makes a link by which anybody reads one run, rehearsal or revision. */
  let {
    what,
    id,
    revision = 0,
    about,
    quiet = false,
  }: {
    what: Schemas["ShareRequest"]["what"];
    id: string;
    revision?: number;
    about: string; // what is shared, in words
    quiet?: boolean; // an icon alone
  } = $props();

  let open = $state(false);
  let days = $state<number | null>(14);
  let made = $state.raw<Schemas["ShareAnswerBody"] | undefined>();
  let trouble = $state("");

  const ask = () => ([made, trouble, open] = [undefined, "", true]);
  async function make() {
    const { data, error } = await api.POST("/api/v1/workspaces/{workspace}/shares", {
      params: { path: { workspace: currentWorkspace() } },
      body: { what, id, revision, days: days ?? 14 },
    });
    trouble = error ? sentence(error) : "";
    made = data;
  }
</script>

{#if quiet}
  <Button size="small" kind="ghost" icon={Share} iconDescription="Share" tooltipPosition="bottom" on:click={ask} />
{:else}
  <Button size="small" kind="tertiary" icon={Share} on:click={ask}>Share</Button>
{/if}
<Later wanted={open}>
  <Modal
    bind:open
    size="sm"
    passiveModal={made !== undefined}
    modalHeading="Share {about}"
    primaryButtonText="Create link"
    secondaryButtonText="Cancel"
    primaryButtonDisabled={days === null || days < 1 || days > 90}
    on:click:button--secondary={() => (open = false)}
    on:submit={make}
  >
    {#if made}
      <p>Send this link. It is shown this once, and expires {when(made.share.expires_at)}.</p>
      <CodeSnippet wrapText code={location.origin + made.link} />
      <p class="quiet">
        {made.open
          ? "It opens for anyone, without an account."
          : "It opens for users with an account here; an administrator can open links to anyone, under Settings, Limits."}
        It reads {made.share.what}, and nothing else, and can be revoked under Settings, Share links.
      </p>
    {:else}
      <p>Anyone with the link can read this and nothing else, until it expires.</p>
      <NumberInput labelText="Days until it expires" min={1} max={90} bind:value={days} />
      {#if trouble}<p class="wrong" role="alert">{trouble}</p>{/if}
    {/if}
  </Modal>
</Later>

<style>
  p {
    padding-bottom: 1rem;
  }
  .quiet {
    padding-top: 1rem;
  }
  .wrong {
    color: var(--cds-support-01);
  }
</style>
