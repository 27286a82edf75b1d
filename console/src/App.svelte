<script lang="ts">
  import { Content, Header, HeaderGlobalAction, HeaderNav, HeaderNavItem, HeaderUtilities, SkipToContent } from "carbon-components-svelte";
  import Asleep from "carbon-icons-svelte/lib/Asleep.svelte";
  import Light from "carbon-icons-svelte/lib/Light.svelte";
  import Logout from "carbon-icons-svelte/lib/Logout.svelte";
  import { Router } from "sv-router";
  import { api } from "./lib/api";
  import { isActive, navigate } from "./router";
  import { theme } from "./lib/theme.svelte";

  async function signOut() {
    await api.DELETE("/api/v1/session");
    navigate("/sign-in");
  }
</script>

<SkipToContent />
<Header platformName="Iron Weir" href="/" aria-label="Iron Weir">
  <HeaderNav aria-label="Pages">
    <HeaderNavItem href="/" text="Models" isSelected={isActive("/")} />
    <HeaderNavItem href="/runs" text="Runs" isSelected={isActive("/runs")} />
  </HeaderNav>
  <HeaderUtilities>
    <HeaderGlobalAction iconDescription={theme.dark ? "Light theme" : "Dark theme"} icon={theme.dark ? Light : Asleep} on:click={theme.toggle} />
    <HeaderGlobalAction iconDescription="Sign out" icon={Logout} on:click={signOut} />
  </HeaderUtilities>
</Header>
<Content style="padding: 0; margin-top: 3rem; background: var(--cds-ui-background)">
  <Router />
</Content>
