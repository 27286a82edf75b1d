<script lang="ts">
  import { Tab, TabContent, Tabs } from "carbon-components-svelte";
  import { visitor } from "../lib/workspace.svelte";
  import ChooseZone from "../components/ChooseZone.svelte";
  import Audit from "../components/Audit.svelte";
  import Limits from "../components/Limits.svelte";
  import Members from "../components/Members.svelte";
  import Password from "../components/Password.svelte";
  import People from "../components/People.svelte";
  import SignOutEverywhere from "../components/SignOutEverywhere.svelte";
  import Shares from "../components/Shares.svelte";
  import Tokens from "../components/Tokens.svelte";
  import Workers from "../components/Workers.svelte";

  if (!visitor.user) visitor.load();
  let selected = $state(0);
  const admin = $derived(visitor.user?.admin ?? false);
  const tabs = $derived([
    "You",
    "Share links",
    "Workspaces",
    ...(admin ? ["People", "Workers", "Limits", "Audit trail"] : []),
  ]);
</script>

<svelte:head><title>Settings · Iron Weir</title></svelte:head>

<div class="page" id="main-content">
  <h1>Settings</h1>
  {#if visitor.user}
    <Tabs bind:selected>
      {#each tabs as tab (tab)}<Tab label={tab} />{/each}
      <svelte:fragment slot="content">
        {#each tabs as tab, i (tab)}
          <TabContent>
            <!-- Read anew whenever it is shown. -->
            {#if selected !== i}
              <span></span>
            {:else if tab === "You"}
              <p>Signed in as <strong>{visitor.user.name}</strong>{admin ? ", who administers the service" : ""}.</p>
              <ChooseZone />
              <Password />
              <Tokens />
              <SignOutEverywhere />
            {:else if tab === "Share links"}<Shares />
            {:else if tab === "Workspaces"}<Members {admin} />
            {:else if tab === "People"}<People />
            {:else if tab === "Workers"}<Workers />
            {:else if tab === "Limits"}<Limits />
            {:else}<Audit />{/if}
          </TabContent>
        {/each}
      </svelte:fragment>
    </Tabs>
  {/if}
</div>
