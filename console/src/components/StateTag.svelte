<script lang="ts">
  import { Tag } from "carbon-components-svelte";

  let { state, unmet = null }: { state: string; unmet?: number | null | undefined } = $props();
  /** What became of a run: that it was simulated says nothing of its expectations. */
  const shown = $derived(
    state === "done" && unmet !== null
      ? unmet > 0
        ? { type: "red" as const, words: unmet === 1 ? "1 expectation fails" : `${unmet} expectations fail` }
        : { type: "green" as const, words: "expectations hold" }
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
