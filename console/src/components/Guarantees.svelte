<script lang="ts">
  import { api, sentence, type Board, type Schemas } from "../lib/api";
  import { count } from "../lib/format";
  import { delayWords, destinationWords, effectWords, orderWords, reasonsOf } from "../lib/guarantees";
  import type { Movement } from "../lib/motion";
  import type { Lit } from "../lib/player.svelte";
  import { between, seenFrom } from "../lib/ways";
  import Witness from "./Witness.svelte";

  let {
    text,
    board,
    chosen,
    model,
    scenario,
    edits,
    onchoose,
    onlit,
    onmove,
  }: {
    text: string;
    board: Board;
    chosen: string;
    model: string;
    scenario: string; // the text of the one that is chosen; "": none is
    edits: boolean;
    onchoose: (node: string) => void;
    onlit: (lit: Lit) => void;
    onmove: (movements: Movement[]) => void;
  } = $props();

  let found = $state.raw<Schemas["CheckGuaranteeDocument"] | undefined>();
  let trouble = $state("");
  let open = $state(""); // the pair whose reasons are shown
  let shown = $state(""); // the reason that a run shows
  let playing = $state(false); // its message moves on the board, which lights what it passes

  $effect(() => {
    const model = text;
    const timer = setTimeout(async () => {
      const { data, error } = await api.POST("/api/v1/guarantees", { body: { text: model } });
      trouble = error ? sentence(error) : "";
      if (data) found = data;
    }, 200);
    return () => clearTimeout(timer);
  });

  const id = (g: Schemas["CheckGuarantee"]) => `${g.from} ${g.to}`;
  const all = $derived(found?.guarantees ?? []);
  // The paths of the open pair stand out on the board.
  $effect(() => {
    if (playing) return;
    const pair = all.find((g) => id(g) === open);
    const way = pair && (pair.answer ? seenFrom(board, pair.from, "around") : between(board, pair.from, pair.to));
    onlit({
      nodes: new Map([...(way?.nodes ?? [])].map((n) => [n, "highlighted"])),
      links: way?.links ?? new Set(),
    });
  });
  // The pairs of the node chosen on the board come first.
  const rows = $derived([
    ...all.filter((g) => g.from === chosen || g.to === chosen),
    ...all.filter((g) => g.from !== chosen && g.to !== chosen),
  ]);
</script>

<section aria-label="Guarantees">
  {#if trouble}
    <p class="quiet">The guarantees are shown once the text can be read.</p>
  {:else if found && rows.length === 0}
    <p class="quiet">No message of an entry takes effect in a table, a bucket, an outside system or a last queue.</p>
  {:else if found}
    <table>
      <thead>
        <tr>
          <th></th><th>From</th><th>To</th><th class="num">Survives</th><th>Without a fault</th><th>With one fault</th
          ><th>Order</th><th>Delay</th>
        </tr>
      </thead>
      <tbody>
        {#each rows as g (id(g))}
          <tr class:open={open === id(g)}>
            <td
              ><button
                class="why"
                aria-expanded={open === id(g)}
                aria-label="Reasons for {g.from} to {destinationWords(g)}"
                onclick={() => ((shown = ""), (playing = false), (open = open === id(g) ? "" : id(g)))}
                >{open === id(g) ? "▾" : "▸"}</button
              ></td
            >
            <td><button class="mono" onclick={() => onchoose(g.from)}>{g.from}</button></td>
            <td><button class="mono" onclick={() => onchoose(g.to)}>{destinationWords(g)}</button></td>
            <td class="num">{g.survives} {g.survives === 1 ? "fault" : "faults"}</td>
            <td data-effect={g.effects.no_fault}>{effectWords(g.effects.no_fault)}</td>
            <td data-effect={g.effects.one_fault}>{effectWords(g.effects.one_fault)}</td>
            <td>{orderWords(g)}</td>
            <td>{delayWords(g)}</td>
          </tr>
          {#if open === id(g)}
            <tr class="reasons">
              <td></td><td colspan="7">
                <dl>
                  {#each reasonsOf(g) as [what, reasons] (what)}
                    <dt>{what}</dt>
                    <dd>
                      {#each reasons as { text: reason, statement } (reason)}
                        <p>
                          {reason}
                          {#if statement}<button
                              class="show"
                              aria-expanded={shown === reason}
                              aria-label="{shown === reason ? 'Hide' : 'Show'} a message to which it happens: {reason}"
                              onclick={() => ((playing = false), (shown = shown === reason ? "" : reason))}
                              >{shown === reason ? "Hide" : "Show it"}</button
                            >{/if}
                        </p>
                        {#if statement && shown === reason}
                          <Witness
                            {text}
                            {scenario}
                            {model}
                            {edits}
                            from={g.from}
                            to={g.to}
                            what={statement.what}
                            at={statement.at}
                            onlit={(lit) => ((playing = true), onlit(lit))}
                            {onmove}
                          />
                        {/if}
                      {/each}
                    </dd>
                  {/each}
                </dl>
              </td>
            </tr>
          {/if}
        {/each}
      </tbody>
    </table>
    <p class="quiet">
      Exactly once: no loss and no repetition. A parked message is late, not lost; a request answered as failed has no
      effect, and its sender knows. Delay: the mean without load, and the longest. The paths of an open pair are
      highlighted on the board.
    </p>
    {#if found.omitted}
      <p class="quiet">{count(found.omitted)} more pairs are not shown; <code>ironweir guarantees</code> lists all.</p>
    {/if}
  {/if}
</section>

<style>
  section {
    padding: 0.25rem 0.75rem;
  }
  table {
    border-collapse: collapse;
    width: 100%;
    font-size: 0.75rem;
  }
  th {
    text-align: left;
    color: var(--cds-text-02);
    font-weight: 400;
  }
  th,
  td {
    padding: 0.125rem 0.5rem 0.125rem 0;
    border-bottom: 1px solid var(--cds-ui-03);
    white-space: nowrap;
  }
  .num {
    text-align: right;
  }
  button {
    font-size: inherit;
    background: none;
    border: 0;
    padding: 0;
    min-height: 1.5rem;
    color: var(--cds-text-01);
    cursor: pointer;
  }
  button:hover {
    text-decoration: underline;
  }
  .show {
    color: var(--cds-link-01);
    margin-left: 0.5rem;
  }
  .why {
    min-width: 1.5rem;
  }
  td:last-child {
    white-space: normal;
  }
  [data-effect="any_number"] {
    color: var(--loses);
    font-weight: 600;
  }
  [data-effect="exactly_once"] {
    color: var(--fine);
  }
  .reasons td {
    white-space: normal;
  }
  dl {
    display: grid;
    grid-template-columns: max-content 1fr;
    gap: 0.125rem 0.75rem;
    padding: 0.25rem 0 0.5rem;
  }
  dt {
    color: var(--cds-text-02);
  }
  p {
    font-size: inherit;
  }
  .quiet {
    padding-top: 0.5rem;
  }
</style>
