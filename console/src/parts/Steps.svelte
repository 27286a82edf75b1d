<script lang="ts">
  import type { Schemas } from "../lib/api";
  import { duration } from "../lib/words";

  type Step = Schemas["Step"];
  /** Steps of a message, indented by what they come of; `all` says of which trail they are. */
  let { steps, all = steps }: { steps: Step[]; all?: Step[] } = $props();

  const depth = $derived.by(() => {
    const at = new Map<number, number>([[0, -1]]);
    for (const s of all) at.set(s.id, (at.get(s.parent) ?? -1) + 1);
    return at;
  });

  const words: Record<string, string> = { enters: "takes it", held: "holds it", offered: "✓", declined: "✗", runs: "runs", calls: "calls", ends: "ends", sends: "sends", waits: "waits", returned: "answers", parked: "parked in", lost: "LOST at" };
  const line = (s: Step) => (s.what === "offered" || s.what === "declined" ? `${words[s.what]} ${s.link}` : s.what === "parked" || s.what === "lost" ? `${words[s.what]} ${s.node}` : `${s.node} ${words[s.what] ?? s.what}`);
</script>

<ol>
  {#each steps as s (s.id)}
    <li class={s.what} class:failed={s.what === "ends" && (s.why ?? "").startsWith("failed")}>
      <span class="at">{duration(s.t_s)}</span><span style="padding-left: {(depth.get(s.id) ?? 0) * 0.75}rem">{line(s)}</span>{s.try && s.try > 1 ? ` (try ${s.try})` : ""}{s.fate && (s.what === "enters" || s.what === "held") ? ` → ${s.fate.replaceAll("_", "-")}` : ""}
      <i>{s.why}</i>
      {#if s.event}<details><summary aria-label="The event at {s.node}">event</summary><pre>{JSON.stringify(s.event, null, 2)}</pre></details>{/if}
    </li>
  {/each}
</ol>

<style>
  li { line-height: 1.5; white-space: nowrap; }
  .at { display: inline-block; min-width: 5rem; color: var(--cds-text-02); }
  details { display: inline-block; vertical-align: top; }
  summary { cursor: pointer; color: var(--cds-link-01); }
  pre { font: 0.75rem/1.4 "IBM Plex Mono", monospace; background: var(--cds-ui-01); padding: 0.5rem; max-width: 32rem; overflow: auto; white-space: pre-wrap; }
  li i { color: var(--cds-text-02); margin-left: 0.25rem; }
  .declined { color: var(--cds-text-02); }
  .failed, .lost, .parked { color: var(--loops); font-weight: 600; }
</style>
