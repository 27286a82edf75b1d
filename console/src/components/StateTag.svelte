<script lang="ts">
  import { Tag } from "carbon-components-svelte";

  let {
    state,
    unmet = null,
    expected = null,
  }: { state: string; unmet?: number | null | undefined; expected?: number | null | undefined } = $props();
  /** What became of a run: that it was simulated says nothing of its expectations. */
  const shown = $derived(
    state === "done" && unmet !== null
      ? unmet > 0
        ? { type: "red" as const, words: `${unmet} of ${expected} fail` }
        : { type: "green" as const, words: "holds" }
      : {
          type:
            ({ done: "gray", failed: "red", cancelled: "gray", running: "blue", queued: "cool-gray" } as const)[
              state
            ] ?? ("gray" as const),
          words: state === "failed" ? "not simulated" : state,
        },
  );
</script>

<Tag type={shown.type} size="sm">{shown.words}</Tag>
