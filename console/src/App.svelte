<script lang="ts">
  import "./app.css?for=App.svelte";
  import {
    Content,
    Header,
    HeaderGlobalAction,
    HeaderNav,
    HeaderNavItem,
    HeaderUtilities,
    OverflowMenu,
    OverflowMenuItem,
    SkipToContent,
  } from "carbon-components-svelte";
  import Asleep from "carbon-icons-svelte/lib/Asleep.svelte";
  import SearchIcon from "carbon-icons-svelte/lib/Search.svelte";
  import Light from "carbon-icons-svelte/lib/Light.svelte";
  import Logout from "carbon-icons-svelte/lib/Logout.svelte";
  import SettingsIcon from "carbon-icons-svelte/lib/Settings.svelte";
  import { Router } from "sv-router";
  import { api } from "./lib/api";
  import { when } from "./lib/format";
  import { connection } from "./lib/connection.svelte";
  import { currentWorkspace, visitor } from "./lib/workspace.svelte";
  import { theme } from "./lib/theme.svelte";
  import { palette } from "./lib/palette.svelte";
  import ConnectionBar from "./components/ConnectionBar.svelte";
  import Palette from "./components/Palette.svelte";
  import ImportFile from "./components/ImportFile.svelte";
  import { isActive, navigate, p, route } from "./router";

  const signedOut = $derived(route.pathname.startsWith("/s/")); // a share link signs in by itself
  const share = $derived(visitor.user?.share); // who reads by a link sees what it shares, and no way to the rest
  const workspace = $derived((route.pathname, currentWorkspace()));

  $effect(() => {
    if (!signedOut && !visitor.workspaces) visitor.load();
    if (route.pathname.startsWith("/w/")) visitor.remember(workspace);
  });

  async function signOut() {
    await api.DELETE("/api/v1/session");
    location.assign("/sign-in");
  }
</script>

<SkipToContent />
<Header platformName="Iron Weir" href="/" aria-label="Iron Weir">
  {#if workspace && !signedOut && !share}
    <HeaderNav aria-label="Pages">
      <HeaderNavItem
        href={p("/w/:workspace", { params: { workspace } })}
        text="Models"
        isSelected={/^\/w\/[^/]+(\/models\/.*)?$/.test(route.pathname)}
      />
      <HeaderNavItem
        href={p("/w/:workspace/runs", { params: { workspace } })}
        text="Runs"
        isSelected={isActive("/w/:workspace/runs")}
      />
    </HeaderNav>
  {/if}
  {#if share}
    <span class="shared">{share.what}, shared by {share.user} until {when(share.expires_at)}</span>
    <HeaderUtilities>
      <HeaderGlobalAction
        iconDescription={theme.dark ? "Light theme" : "Dark theme"}
        icon={theme.dark ? Light : Asleep}
        on:click={theme.toggle}
      />
    </HeaderUtilities>
  {:else if !signedOut}
    <HeaderUtilities>
      {#if (visitor.workspaces?.length ?? 0) > 1}
        <OverflowMenu aria-label="Select a workspace" iconDescription="Select a workspace" flipped class="workspaces">
          <span slot="menu" class="workspace">{workspace}</span>
          {#each visitor.workspaces ?? [] as w (w.name)}
            <OverflowMenuItem
              text={w.name}
              on:click={() => navigate("/w/:workspace", { params: { workspace: w.name } })}
            />
          {/each}
        </OverflowMenu>
      {/if}
      <HeaderGlobalAction
        iconDescription="Find anything (Ctrl K)"
        icon={SearchIcon}
        on:click={() => (palette.open = true)}
      />
      <HeaderGlobalAction
        iconDescription={theme.dark ? "Light theme" : "Dark theme"}
        icon={theme.dark ? Light : Asleep}
        on:click={theme.toggle}
      />
      <HeaderGlobalAction
        iconDescription="Settings"
        icon={SettingsIcon}
        isActive={isActive("/settings")}
        on:click={() => navigate("/settings")}
      />
      <HeaderGlobalAction iconDescription="Sign out" icon={Logout} on:click={signOut} />
    </HeaderUtilities>
  {/if}
</Header>
<ConnectionBar />
<Content style="padding: 0; margin-top: 3rem; background: var(--cds-ui-background)">
  {#key connection.renewals}
    <Router />
  {/key}
</Content>
{#if workspace && !signedOut && !share && visitor.edits}<ImportFile />{/if}
{#if workspace && !signedOut && !share}<Palette />{/if}

<style>
  .shared {
    padding-left: 1rem;
    font-size: 0.875rem;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .workspace {
    display: inline-block;
    padding: 0 0.75rem;
    line-height: 3rem;
    color: var(--cds-text-inverse, #fff);
    white-space: nowrap;
  }
  :global(.workspaces.bx--overflow-menu) {
    width: auto;
    height: 3rem;
  }
</style>
