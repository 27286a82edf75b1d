<script lang="ts">
  import { Tab, TabContent, Tabs } from "carbon-components-svelte";
  import { visitor } from "../lib/here.svelte";
  import Audit from "../parts/Audit.svelte";
  import Limits from "../parts/Limits.svelte";
  import Members from "../parts/Members.svelte";
  import Password from "../parts/Password.svelte";
  import People from "../parts/People.svelte";
  import Tokens from "../parts/Tokens.svelte";
  import Workers from "../parts/Workers.svelte";

  if (!visitor.user) visitor.load();
  const admin = $derived(visitor.user?.admin ?? false);
</script>

<svelte:head><title>Settings · Iron Weir</title></svelte:head>

<div class="page" id="main-content">
  <h1>Settings</h1>
  {#if visitor.user}
    <Tabs>
      <Tab label="You" />
      <Tab label="Workspaces" />
      {#if admin}
        <Tab label="People" />
        <Tab label="Workers" />
        <Tab label="Limits" />
        <Tab label="Audit trail" />
      {/if}
      <svelte:fragment slot="content">
        <TabContent>
          <p>Signed in as <strong>{visitor.user.name}</strong>{admin ? ", who administers the service" : ""}.</p>
          <Password />
          <Tokens />
        </TabContent>
        <TabContent><Members {admin} /></TabContent>
        {#if admin}
          <TabContent><People /></TabContent>
          <TabContent><Workers /></TabContent>
          <TabContent><Limits /></TabContent>
          <TabContent><Audit /></TabContent>
        {/if}
      </svelte:fragment>
    </Tabs>
  {/if}
</div>
