<script lang="ts">
  import { Checkbox, Modal } from "carbon-components-svelte";
  import { letters } from "../lib/letters.svelte";

  let { open = $bindable(false) }: { open: boolean } = $props();

  const keys: [string, string][] = [
    ["Ctrl K", "find a node, model, run, rule, page or command"],
    ["Ctrl S", "save"],
    ["Ctrl Z, Ctrl Shift Z", "undo and redo, wherever the edit was made"],
    ["/", "find a node on the board"],
    ["Ctrl Space", "in the text: what may be written here"],
    ["Tab, Enter", "go through the board and choose; Enter again: edit"],
    ["Arrows", "along the links of the chosen node, and to what stands beside it; with Shift: move it"],
    ["Delete", "remove what is chosen on the board"],
    ["Shift F10", "on a node or link, or with a right click: what can be done with it"],
    [
      "Shift",
      "with a press, Enter or a frame on the board: choose several nodes, to move, tag or remove them together",
    ],
    ["Esc", "choose nothing; in a field of the inspector: leave it as it was"],
    ["F2", "rename the chosen node"],
    ["1 2 3 4 5 6 7", "findings, try a message, guarantees, availability, schedules, history, observed"],
    ["a", "add a node; a double click on the board adds one there"],
    ["c", "draw a link from the chosen node to one picked by name"],
    ["Ctrl C, Ctrl V", "copy the chosen node, put a copy on this board or another"],
    ["b", "full-screen board, and back"],
    ["t i s", "the model's text, the inspector, the scenario"],
    ["?", "this list"],
  ];
</script>

<Modal bind:open passiveModal size="sm" modalHeading="Keyboard">
  <dl>
    {#each keys as [key, does] (key)}<dt>{key}</dt>
      <dd>{does}</dd>{/each}
  </dl>
  <Checkbox
    labelText="Single letters and digits are shortcuts"
    checked={letters.on}
    on:check={({ detail }) => detail !== letters.on && letters.toggle()}
  />
</Modal>

<style>
  dl {
    display: grid;
    grid-template-columns: 12rem 1fr;
    gap: 0.375rem 1rem;
  }
  dt {
    font-family: "IBM Plex Mono", monospace;
  }
</style>
