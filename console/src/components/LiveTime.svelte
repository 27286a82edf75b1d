<script lang="ts">
  import { Button, Select, SelectItem, TextInput } from "carbon-components-svelte";
  import Pause from "carbon-icons-svelte/lib/Pause.svelte";
  import Play from "carbon-icons-svelte/lib/Play.svelte";
  import SkipForward from "carbon-icons-svelte/lib/SkipForward.svelte";
  import { api, sentence } from "../lib/api";
  import { clock, instant, type State } from "../lib/live";
  import { count } from "../lib/format";
  import { zone } from "../lib/zone.svelte";

  let {
    path,
    stands,
    edits,
    ontrouble,
  }: { path: { workspace: string; id: string }; stands: State; edits: boolean; ontrouble: (why: string) => void } =
    $props();

  const paces = ["0.1", "0.5", "1", "2", "5", "10", "60", "600", "3600"];
  let to = $state("");
  let stepped = $state("");

  async function set(body: { running?: boolean; pace?: number; to_s?: number }) {
    stepped = "";
    const { error } = await api.POST("/api/v1/workspaces/{workspace}/rehearsals/{id}/time", { params: { path }, body });
    ontrouble(error ? sentence(error) : "");
  }
  async function step() {
    const { data, error } = await api.POST("/api/v1/workspaces/{workspace}/rehearsals/{id}/step", { params: { path } });
    if (error) ontrouble(sentence(error));
    else stepped = data.said || "nothing is left to happen";
  }
  async function back(seconds: number | undefined) {
    if (seconds === undefined) ontrouble("An instant is written as hours:minutes:seconds since the start.");
    else await set({ running: false, to_s: Math.max(0, seconds) });
  }
  const day = $derived(
    zone.format(Date.parse(stands.start) + stands.now_s * 1000, {
      weekday: "short",
      hour: "2-digit",
      minute: "2-digit",
      second: "2-digit",
      timeZoneName: "short",
    }),
  );
</script>

<div class="time">
  <span class="clock" title="since the start; {day} in the scenario">{clock(stands.now_s)}</span>
  {#if edits}
    <Button
      size="small"
      kind={stands.running ? "tertiary" : "primary"}
      icon={stands.running ? Pause : Play}
      disabled={stands.busy}
      on:click={() => set({ running: !stands.running })}>{stands.running ? "Pause" : "Resume"}</Button
    >
    <Button size="small" kind="tertiary" icon={SkipForward} disabled={stands.busy} on:click={step}>Step</Button>
    <Select
      size="sm"
      inline
      hideLabel
      labelText="Pace"
      selected={String(stands.pace)}
      on:update={(e) => Number(e.detail) !== stands.pace && set({ pace: Number(e.detail) })}
    >
      {#each [...new Set([...paces, String(stands.pace)])].sort((a, b) => Number(a) - Number(b)) as x (x)}<SelectItem
          value={x}
          text="{x}× the clock"
        />{/each}
    </Select>
    <form class="back" onsubmit={(e) => (e.preventDefault(), back(instant(to)))}>
      <Button size="small" kind="ghost" disabled={stands.busy} on:click={() => back(stands.now_s - 60)}>−1 min</Button>
      <TextInput size="sm" hideLabel labelText="Rewind to" placeholder="back to 0:05:00" bind:value={to} />
      <Button size="small" kind="ghost" type="submit" disabled={stands.busy || !to}>Rewind</Button>
    </form>
  {/if}
  <span class="counts" role="status">
    <b>{count(stands.entered)}</b> entered <b>{count(stands.underway)}</b> in flight
    <b class:parked={stands.parked > 0}>{count(stands.parked)}</b>
    parked <b class:lost={stands.lost > 0}>{count(stands.lost)}</b> lost
  </span>
  <span class="said" aria-live="polite">
    {#if stands.busy}rewinding …{:else if stands.stopped}ended by {stands.stopped}{:else if stepped}{stepped}{:else if stands.behind}as
      fast as this machine can{:else if stands.ahead}replaying what was entered later, until something new is entered{:else if stands.length_s && stands.now_s >= stands.length_s}the
      scenario has ended{/if}
  </span>
</div>

<style>
  .time {
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: 0.5rem 0.75rem;
    padding: 0.375rem 1rem;
    border-bottom: 1px solid var(--cds-ui-03);
  }
  .clock {
    font-family: "IBM Plex Mono", monospace;
    font-size: 1.25rem;
    font-variant-numeric: tabular-nums;
  }
  .back {
    display: flex;
    align-items: center;
  }
  .back :global(.bx--text-input) {
    width: 9rem;
  }
  .back :global(.bx--form-item) {
    flex: none;
  }
  .counts {
    font-variant-numeric: tabular-nums;
    color: var(--cds-text-02);
  }
  .counts b {
    color: var(--cds-text-01);
    margin-left: 0.5rem;
  }
  .counts b.parked {
    color: var(--parked);
  }
  .counts b.lost {
    color: var(--loses);
  }
  .said {
    color: var(--cds-text-02);
  }
</style>
