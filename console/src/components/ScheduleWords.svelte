<script lang="ts">
  import { Button, TextInput } from "carbon-components-svelte";
  import { api, sentence, type Schemas } from "../lib/api";
  import { formatIn } from "../lib/zone.svelte";

  /** A schedule typed in words: what it comes to is shown before it is set. */
  let { zone, onset }: { zone: string; onset: (fields: Record<string, string>) => Promise<string> } = $props();

  let words = $state("");
  let read = $state.raw<Schemas["ReadSchedule"] | undefined>();
  let wrong = $state("");

  $effect(() => {
    const [typed, where] = [words.trim(), zone];
    [read, wrong] = [undefined, ""];
    if (!typed) return;
    const timer = setTimeout(async () => {
      const body = { words: typed, zone: where, from: new Date().toISOString() };
      const { data, error } = await api.POST("/api/v1/schedule", { body });
      if (typed !== words.trim()) return;
      [read, wrong] = [data, error ? sentence(error) : ""];
    }, 200);
    return () => clearTimeout(timer);
  });

  async function set() {
    if (!read) return;
    wrong = await onset(read.fields);
    if (!wrong) words = "";
  }
  const instant = (iso: string) =>
    formatIn(zone || "UTC", Date.parse(iso), {
      weekday: "short",
      day: "numeric",
      month: "short",
      hour: "2-digit",
      minute: "2-digit",
      hourCycle: "h23",
    });
</script>

<form onsubmit={(e) => (e.preventDefault(), set())}>
  <TextInput
    id="schedule-words"
    size="sm"
    labelText="In words"
    placeholder="every weekday at 6:30"
    helperText={read ? "" : "every 5 minutes · Monday and Thursday at 9 and 17 · on the last day of the month at 18:00"}
    bind:value={words}
    invalid={wrong !== ""}
    invalidText={wrong}
  />
  {#if read}
    <div class="read" role="status">
      {#each Object.entries(read.fields) as [name, value] (name)}<span class="mono">{name}: {value}</span>{/each}
      <Button size="small" kind="tertiary" type="submit">Set the schedule</Button>
      <ul aria-label="The next instants">
        {#each read.schedule.next as f (f.utc)}<li>
            {instant(f.utc)}
            {zone || "UTC"}{f.change ? `: ${f.change}` : ""}
          </li>{/each}
      </ul>
    </div>
  {/if}
</form>

<style>
  .read {
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: 0.25rem 0.75rem;
    padding-top: 0.375rem;
    font-size: 0.8125rem;
  }
  ul {
    width: 100%;
    font-variant-numeric: tabular-nums;
    color: var(--cds-text-02);
    line-height: 1.5;
  }
</style>
