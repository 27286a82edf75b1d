<script lang="ts">
  import type { Schemas } from "../lib/api";
  import { count, number } from "../lib/format";
  import { advice, outputs, shareWithin, standing, tornado } from "../lib/tornado";
  import CodeText from "./CodeText.svelte";

  let { result }: { result: Schemas["SensitivityDocument"] } = $props();

  const percent = (x: number) => `${(100 * x).toFixed(2)}%`;
</script>

{#if result.partial}
  <p class="quiet">It was cancelled before there was anything to show.</p>
{:else}
  <p class="quiet">
    {count(result.runs)} runs with the same random numbers: each guess at the ends of its range, the others as written.
  </p>
{/if}
{#each outputs(result) as o (o.of)}
  {@const chart = tornado(o)}
  <section aria-label="Which guesses decide {o.of}">
    <h2><span class="mono">{o.of}</span></h2>
    <p>
      With every guess as written: <b class:fails={o.holds === false} class:holds={o.holds}>{standing(o)}</b>
    </p>
    <ul>
      {#each advice(o) as line (line)}<li><CodeText text={line} /></li>{/each}
    </ul>
    <div class="scroll">
      <table>
        <thead>
          <tr>
            <th>Guess</th><th>Range</th><th class="num">Result at its ends</th>
            <th class="chart"
              >{#if chart}<span>{number(chart.low)}</span><span>{number(chart.high)}</span>{/if}</th
            >
            <th class="num">Alone</th><th class="num">In all</th><th class="num">Turns at</th>
          </tr>
        </thead>
        <tbody>
          {#each o.inputs as guess, k (guess.path)}
            <tr>
              <td class="mono">{guess.path}</td>
              <td>{guess.range.join(" to ")}</td>
              <td class="num">{number(guess.values[0])} to {number(guess.values[1])}</td>
              <td class="chart">
                {#if chart}
                  <div class="bars" role="img" aria-label="from {number(guess.values[0])} to {number(guess.values[1])}">
                    {#each chart.bars[k] as bar (bar.end)}
                      <i class={bar.end} style:left={percent(bar.from)} style:width={percent(bar.length)}></i>
                    {/each}
                    <i class="now" style:left={percent(chart.at)}></i>
                  </div>
                {/if}
              </td>
              {#if guess.share}
                <td class="num">{shareWithin(guess.share.first, guess.share.first_ci)}</td>
                <td class="num">{shareWithin(guess.share.total, guess.share.total_ci)}</td>
              {:else}
                <td></td><td></td>
              {/if}
              <td class="num">{guess.turns_at ?? ""}</td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
    {#if chart}
      <p class="quiet legend">
        <i class="lower"></i> result at the lower end of the range <i class="upper"></i> at the upper end; the line: as written.
        Alone, in all: the part of the variance that the guess explains, by itself and with its interactions, with 95 % intervals;
        empty: screened out, or not asked for.
      </p>
    {/if}
  </section>
{/each}

<style>
  h2 {
    overflow-wrap: anywhere;
  }
  .holds {
    color: var(--fine);
  }
  .fails {
    color: var(--fails);
  }
  ul {
    padding: 0.25rem 0 0.5rem;
    line-height: 1.5;
  }
  .scroll {
    overflow-x: auto;
  }
  table {
    border-collapse: collapse;
    width: 100%;
    font-size: 0.875rem;
  }
  th {
    text-align: left;
    font-weight: 400;
    color: var(--cds-text-02);
  }
  th,
  td {
    padding: 0.25rem 0.75rem 0.25rem 0;
    border-bottom: 1px solid var(--cds-ui-03);
    white-space: nowrap;
  }
  .num {
    text-align: right;
  }
  .chart {
    min-width: 16rem;
    width: 40%;
  }
  th.chart span:last-child {
    float: right;
  }
  .bars {
    position: relative;
    height: 1rem;
  }
  .bars i {
    position: absolute;
    top: 0;
    bottom: 0;
  }
  .lower {
    background: var(--range-lower);
  }
  .upper {
    background: var(--range-upper);
  }
  .bars .now {
    width: 2px;
    margin-left: -1px;
    background: var(--cds-text-01);
    top: -0.25rem;
    bottom: -0.25rem;
  }
  .legend i {
    display: inline-block;
    width: 0.75rem;
    height: 0.75rem;
    vertical-align: -1px;
  }
  .legend i + i,
  .legend .upper {
    margin-left: 0.75rem;
  }
</style>
