<script lang="ts" module>
  /** What is asked for a menu: a node, a link, or the board itself. */
  export type MenuAt = { node?: string; link?: string };
  export type MenuItem = { text: string; hint?: string; danger?: boolean; run: () => unknown };
</script>

<script lang="ts">
  import { ContextMenu, ContextMenuOption } from "carbon-components-svelte";
  import { tick } from "svelte";

  let { items, at, onclose }: { items: MenuItem[]; at: { x: number; y: number } | undefined; onclose: () => void } =
    $props();

  let ref = $state<HTMLUListElement | null>(null);
  let x = $state(0);
  let y = $state(0);
  let open = $state(false);
  $effect(() => {
    if (at) show(at);
  });

  /** Opens the menu at the pointer, or as near to it as there is room. */
  async function show(pointer: { x: number; y: number }) {
    await tick(); // so that it has the height of its items
    const { width = 0, height = 0 } = ref?.getBoundingClientRect() ?? {};
    x = Math.max(1, Math.min(pointer.x, innerWidth - width));
    y = Math.max(1, Math.min(pointer.y, innerHeight - height));
    open = true;
  }
</script>

<ContextMenu bind:open bind:x bind:y bind:ref target={[]} labelText="What can be done here" on:close={onclose}>
  {#each items as item (item.text)}
    <ContextMenuOption
      labelText={item.text}
      shortcutText={item.hint ?? ""}
      kind={item.danger ? "danger" : "default"}
      on:click={() => item.run()}
    />
  {/each}
</ContextMenu>
