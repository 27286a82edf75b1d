<script lang="ts">
  import { onMount } from "svelte";
  import { connection } from "../lib/connection.svelte";

  // What stands in place of a page of which the code could not be loaded. It is opened anew once the service can be
  // reached, but not again and again.
  const [key, minute] = ["ironweir-opened-anew", 60_000];
  const again = Date.now() - Number(sessionStorage.getItem(key) ?? 0) > minute;
  onMount(() => {
    connection.lost();
    return connection.resumeBy(() => {
      if (!again) return;
      sessionStorage.setItem(key, String(Date.now()));
      location.reload();
    });
  });
</script>

<svelte:head><title>Iron Weir</title></svelte:head>

<div class="page" id="main-content">
  <h1>This page could not be loaded</h1>
  <p>{again ? "It opens by itself as soon as the service can be reached." : "Load it again in a minute."}</p>
</div>
