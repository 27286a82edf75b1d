<script lang="ts">
  import { Tag } from "carbon-components-svelte";

  let { state }: { state: string } = $props();
  const type = $derived(({ done: "green", failed: "red", cancelled: "gray", running: "blue", queued: "cool-gray" } as const)[state] ?? "gray");
</script>

<Tag {type} size="sm">{state}</Tag>
