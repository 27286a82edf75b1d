<script lang="ts">
  import { Select, SelectItem } from "carbon-components-svelte";
  import { api, sentence, type Schemas } from "../lib/api";
  import { formatIn, zone as own } from "../lib/zone.svelte";

  let { text, onchoose }: { text: string; onchoose: (node: string) => void } = $props();

  const spans: Record<string, { label: string; hours: number; step: number }> = {
    hour: { label: "the next hour", hours: 1, step: 10 / 60 },
    day: { label: "the next day", hours: 24, step: 4 },
    week: { label: "the next week", hours: 168, step: 24 },
  };
  let span = $state("day");
  let zone = $state(""); // chosen for this page
  let recorded = $state.raw<Schemas["Fires"] | undefined>();
  let trouble = $state("");
  let from = $state(0);

  $effect(() => {
    const [model, hours] = [text, spans[span].hours];
    const timer = setTimeout(async () => {
      const start = new Date();
      start.setUTCMinutes(span === "hour" ? start.getUTCMinutes() : 0, 0, 0);
      const { data, error } = await api.POST("/api/v1/fires", {
        body: {
          text: model,
          from: start.toISOString(),
          until: new Date(start.getTime() + hours * 3600e3).toISOString(),
        },
      });
      trouble = error ? sentence(error) : "";
      if (data) [recorded, from] = [data, start.getTime()];
    }, 150);
    return () => clearTimeout(timer);
  });

  const zones = $derived([...new Set(["UTC", own.name, ...(recorded?.schedules ?? []).map((s) => s.zone)])]);
  const shownZone = $derived(zone || recorded?.schedules[0]?.zone || "UTC");
  const width = $derived(spans[span].hours * 3600e3);
  const at = (iso: string) => (100 * (new Date(iso).getTime() - from)) / width;
  const part = (ms: number, options: Intl.DateTimeFormatOptions) => formatIn(shownZone, ms, options);
  const clock = (ms: number, day = false) =>
    (day ? `${part(ms, { weekday: "short" })} ${part(ms, { day: "numeric" })}, ` : "") +
    part(ms, { hour: "2-digit", minute: "2-digit", hourCycle: "h23" });
  const ticks = $derived(
    Array.from(
      { length: Math.round(spans[span].hours / spans[span].step) + 1 },
      (_, i) => i * spans[span].step * 3600e3,
    ),
  );
</script>

<section aria-label="Schedules">
  <div class="top">
    <Select size="sm" inline labelText="Show" bind:selected={span}
      >{#each Object.entries(spans) as [key, s] (key)}<SelectItem value={key} text={s.label} />{/each}</Select
    >
    <Select size="sm" inline labelText="Times in" bind:selected={zone}
      ><SelectItem value="" text={shownZone} />{#each zones.filter((z) => z !== shownZone) as z (z)}<SelectItem
          value={z}
          text={z}
        />{/each}</Select
    >
  </div>
  {#if trouble}
    <p class="quiet">The schedules are shown once the text can be read.</p>
  {:else if recorded && recorded.schedules.length === 0}
    <p class="quiet">
      The model has no schedule. One fires <span class="mono">every: 15m</span>, or as a <span class="mono">cron</span> expression
      says, in a zone.
    </p>
  {:else if recorded}
    <div class="line head" aria-hidden="true">
      <span></span>
      <div class="axis">
        {#each ticks as t (t)}<i style="left: {(100 * t) / width}%"
            >{span === "week" ? part(from + t, { weekday: "short", day: "numeric" }) : clock(from + t)}</i
          >{/each}
      </div>
    </div>
    {#each recorded.schedules as s (s.name)}
      <div class="line" data-schedule={s.name}>
        <div class="what">
          <button onclick={() => onchoose(s.name)}>{s.name}</button>{#if !s.enabled}<b>off</b>{/if}
          <p>{s.words}</p>
          <p class="quiet"><span class="mono">{s.text}</span> {s.zone}</p>
          {#if Object.keys(s.layouts).length}<details>
              <summary>In other cron layouts</summary>{#each Object.entries(s.layouts) as [layout, other] (layout)}<p
                  class="quiet"
                >
                  {layout.replaceAll("-", " ")}: <span class="mono">{other}</span>
                </p>{/each}
            </details>{/if}
        </div>
        <div class="axis" class:off={!s.enabled}>
          {#each s.next as f (f.utc)}<u
              style="left: {at(f.utc)}%"
              class:change={!!f.change}
              title="{clock(new Date(f.utc).getTime(), true)} {shownZone}{f.change ? `: ${f.change}` : ''}"
            ></u>{/each}
          <em
            >{s.next.length === 0
              ? "does not fire in this time"
              : `${s.next.length === 1 ? "once:" : `${s.next.length}${recorded.cut.includes(s.name) ? " or more" : ""} times, first`} ${clock(new Date(s.next[0].utc).getTime(), true)}`}{#if s.next.some((f) => f.change)};
              {s.next.find((f) => f.change)?.change}{/if}</em
          >
        </div>
      </div>
    {/each}
  {/if}
</section>

<style>
  section {
    padding: 0.25rem 0.75rem 1rem;
    font-size: 0.8125rem;
  }
  .top {
    display: flex;
    gap: 1.5rem;
  }
  .line {
    display: grid;
    grid-template-columns: 19rem 1fr;
    gap: 0.75rem;
    padding: 0.375rem 0;
    border-top: 1px solid var(--cds-ui-03);
  }
  .head {
    border: none;
  }
  .what p {
    font-size: 0.75rem;
    line-height: 1.35;
  }
  .what summary {
    font-size: 0.75rem;
    min-height: 1.5rem;
    line-height: 1.5rem;
    cursor: pointer;
    color: var(--cds-text-02);
  }
  .what button {
    min-height: 1.5rem;
    background: none;
    border: none;
    font: inherit;
    font-weight: 600;
    color: inherit;
    cursor: pointer;
    padding: 0;
  }
  .what b {
    margin-left: 0.5rem;
    color: var(--fails);
  }
  .axis {
    position: relative;
    min-height: 1.25rem;
    margin-right: 2.5rem;
  }
  .line:not(.head) .axis {
    background: linear-gradient(var(--cds-ui-03), var(--cds-ui-03)) 0 0.75rem / 100% 1px no-repeat;
    min-height: 2.25rem;
  }
  .axis i {
    position: absolute;
    transform: translateX(-50%);
    font-style: normal;
    font-size: 0.6875rem;
    color: var(--cds-text-02);
    white-space: nowrap;
  }
  .axis u {
    position: absolute;
    top: 0.375rem;
    width: 2px;
    height: 0.8rem;
    background: var(--board-ink);
    text-decoration: none;
  }
  .axis u.change {
    width: 5px;
  }
  .off u {
    opacity: 0.3;
  }
  .axis em {
    position: absolute;
    top: 1.35rem;
    font-style: normal;
    font-size: 0.6875rem;
    color: var(--cds-text-02);
  }
</style>
