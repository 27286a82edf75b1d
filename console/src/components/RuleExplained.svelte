<!-- The page of a rule: what it means, and what to do. -->
<script lang="ts">
  import { Modal } from "carbon-components-svelte";
  import { sentence } from "../lib/api";
  import { command } from "../lib/command";
  import CodeText from "./CodeText.svelte";
  import Later from "./Later.svelte";

  let open = $state(false);
  let title = $state("");
  let paragraphs = $state.raw<string[]>([]);

  export async function explain(code: string) {
    const { out, error } = await command("explain", [code]);
    const said = (error ? sentence(error) : out)
      .trim()
      .split(/\n\n+/)
      .map((p) => p.replace(/\s+/g, " "));
    title = said[0].startsWith(code) ? said.shift()! : code;
    paragraphs = said;
    open = true;
  }
</script>

<Later wanted={open}>
  <Modal bind:open passiveModal size="sm" modalHeading={title}>
    {#each paragraphs as p (p)}<p><CodeText text={p} /></p>{/each}
  </Modal>
</Later>

<style>
  p {
    padding: 0 0 0.75rem;
  }
</style>
