<!-- What differs from the last run of the same model before this one: what was changed, and which number moved most. -->
<script lang="ts">
  import { api, type Schemas } from "../lib/api";
  import { changed } from "../lib/changed";
  import { movedMost, written } from "../lib/compared";
  import { textOf } from "../lib/revision";
  import { currentWorkspace, visitor } from "../lib/workspace.svelte";
  import { p } from "../router";

  let { run }: { run: Schemas["Run"] } = $props();

  let last = $state.raw<Schemas["Run"] | undefined>();
  let words = $state<string[]>([]);

  async function compare() {
    const workspace = currentWorkspace();
    const { data: runs } = await api.GET("/api/v1/workspaces/{workspace}/runs", {
      params: { path: { workspace }, query: { model: run.model, limit: 50 } },
    });
    const before = runs?.items?.find((r) => r.id < run.id && r.kind === "run" && r.state === "done");
    if (!before) return;
    const [compared, was, is] = await Promise.all([
      api.GET("/api/v1/workspaces/{workspace}/compare", {
        params: { path: { workspace }, query: { run: [before.id, run.id] } },
      }),
      ...(before.revision === run.revision ? [] : [textOf(before), textOf(run)]),
    ]);
    if (!compared.data) return;
    const difference = was && is ? await api.POST("/api/v1/diff", { body: { before: was, after: is } }) : undefined;
    const counts = [before.parts, run.parts];
    const moved = movedMost(compared.data.differences, 1, counts, 3);
    words = [
      difference?.data?.changes ? changed(difference.data.changes) : "The model is the same.",
      before.scenario === run.scenario ? "" : `The scenario was ${before.scenario}.`,
      ...(moved.length
        ? moved.map(
            (m) => `${m.says.about}: ${m.says.what} ${written(m.from, m.says.unit)} → ${written(m.to, m.says.unit)}.`,
          )
        : ["No main number moved."]),
    ].filter(Boolean);
    last = before;
  }
  if (!visitor.user?.share) compare();
</script>

{#if last}
  <p class="quiet" data-since={last.id}>
    Since run {last.id}: {words.join(" ")}
    <a
      href={p("/w/:workspace/compare/:runs", {
        params: { workspace: currentWorkspace(), runs: `${last.id},${run.id}` },
      })}>Compare</a
    >
  </p>
{/if}
