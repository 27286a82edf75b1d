<script lang="ts">
  import { tick } from "svelte";
  import { Button, TextInput } from "carbon-components-svelte";
  import Copy from "carbon-icons-svelte/lib/Copy.svelte";
  import TrashCan from "carbon-icons-svelte/lib/TrashCan.svelte";
  import type { Board, Schemas } from "../lib/api";
  import { freeName, patchAt, valueAt } from "../lib/written";
  import { groupFields, keepGroup, keptGroups, type FieldGroup } from "../lib/field-groups";
  import FieldRow from "./FieldRow.svelte";
  import ScheduleWords from "./ScheduleWords.svelte";

  type Plain = Record<string, unknown>;

  let {
    document,
    board,
    catalogue,
    node,
    link,
    edits,
    onamend,
    onrename,
    onremove,
    onchoose,
    onlink,
  }: {
    document: Plain;
    board: Board;
    catalogue: Schemas["Catalogue"] | undefined;
    node: string;
    link: string;
    edits: boolean;
    onamend: (patch: Plain) => Promise<string>;
    onrename: (from: string, to: string) => Promise<string>;
    onremove: (node: string) => Promise<string>;
    onchoose: (node: string) => void;
    onlink: (id: string) => void;
  } = $props();

  const nodes = $derived((document.nodes ?? {}) as Record<string, Plain>);
  const names = $derived(Object.keys(nodes));
  const written = $derived(nodes[node]);
  const kind = $derived(catalogue?.kinds.find((k) => k.kind === written?.kind));
  const [from, name] = $derived(
    link ? [link.slice(0, link.indexOf(":")), link.slice(link.indexOf(":") + 1)] : ["", ""],
  );
  const links = $derived((nodes[from]?.links ?? {}) as Record<string, Plain | null>);
  const linked = $derived(link && name in links ? (links[name] ?? {}) : undefined);
  const out = $derived(board.links.filter((l) => l.from === node && l.stroke !== "dead-letter"));
  const into = $derived(board.links.filter((l) => l.to === node && l.stroke !== "dead-letter"));

  const source = $derived(String(nodes[from]?.kind ?? ""));
  const fields = $derived(
    (linked ? catalogue?.link.filter((f) => f.on.length === 0 || f.on.includes(source)) : kind?.fields) ?? [],
  );
  const of = $derived(linked ?? written);
  const groups = $derived(groupFields(fields, (f) => valueAt(of, f.path) !== undefined));
  let kept = $state.raw(keptGroups());
  // A group that nobody has opened or closed is open where something is set; where nothing is, the first.
  const isOpen = (g: FieldGroup) =>
    kept[g.name] ?? (g.set > 0 || (g === groups[0] && groups.every((o) => o.set === 0)));
  function toggle(g: FieldGroup) {
    keepGroup(g.name, !isOpen(g));
    kept = keptGroups();
  }
  const path = $derived(linked ? ["nodes", from, "links", name] : ["nodes", node]);

  let called = $state("");
  let wrong = $state("");
  $effect(() => {
    called = node;
    wrong = "";
  });

  async function rename() {
    if (called === node || called === "") return;
    wrong = await onrename(node, called);
  }
  /** Sets a field of what is chosen. A schedule has one calendar: setting one takes the other away. */
  async function setField(field: string, value: unknown): Promise<string> {
    const other =
      !linked && written?.kind === "schedule"
        ? ({ cron: "every", every: "cron" } as Record<string, string>)[field]
        : undefined;
    const patch = patchAt([...path, ...field.split(".")], value);
    if (other && value !== null && written && other in written) (valueAt(patch, path.join(".")) as Plain)[other] = null;
    const why = await onamend(patch);
    await tick();
    // The field may stand elsewhere now; whoever was in it stays in it.
    if (globalThis.document.activeElement === globalThis.document.body)
      inspector?.querySelector<HTMLElement>(`[data-field="${field}"] :is(input, select)`)?.focus();
    return why;
  }
  /** Sets the calendar of a schedule: what else it has of one goes, its zone stays. */
  function setSchedule(fields: Plain): Promise<string> {
    const others = ["every", "cron", "cron-fields", "sunday"].filter((f) => written && f in written);
    return onamend(patchAt(["nodes", node], { ...Object.fromEntries(others.map((f) => [f, null])), ...fields }));
  }
  let inspector = $state<HTMLElement>();

  async function duplicate() {
    const copy = freeName(node, names);
    wrong = await onamend(patchAt(["nodes", copy], { ...written }));
    if (!wrong) onchoose(copy);
  }
</script>

<section aria-label="Inspector" bind:this={inspector}>
  {#if linked}
    <div class="head">
      <h2>Link {from} → {board.links.find((l) => l.id === link)?.to ?? name}</h2>
      {#if edits}<Button
          kind="danger-ghost"
          size="small"
          icon={TrashCan}
          on:click={async () => (wrong = await onamend(patchAt(path, null)))}>Remove</Button
        >{/if}
    </div>
    <p class="quiet">
      Named <span class="mono">{link}</span>. <button class="plain" onclick={() => onchoose(from)}>To {from}</button>
    </p>
  {:else if written}
    <div class="head">
      <h2>{node}</h2>
      <span class="quiet">{written.kind}</span>
      {#if edits}
        <Button kind="ghost" size="small" icon={Copy} on:click={duplicate}>Duplicate</Button>
        <Button kind="danger-ghost" size="small" icon={TrashCan} on:click={async () => (wrong = await onremove(node))}
          >Remove</Button
        >
      {/if}
    </div>
    <p class="quiet">{kind?.about ?? ""}</p>
    {#if edits}
      <TextInput
        id="inspected-name"
        size="sm"
        labelText="Name"
        bind:value={called}
        on:blur={rename}
        on:keydown={(e) => e.key === "Enter" && rename()}
      />
    {/if}
    {#if out.length || into.length}
      <ul class="links">
        {#each out as l (l.id)}<li>
            <button class="plain" onclick={() => onlink(l.id)}>→ {l.to}</button>
            <span class="quiet">{l.label.replaceAll("\n", ", ")}</span>
          </li>{/each}
        {#each into as l (l.id)}<li>
            <button class="plain" onclick={() => onlink(l.id)}>← {l.from}</button>
            <span class="quiet">{l.label.replaceAll("\n", ", ")}</span>
          </li>{/each}
      </ul>
    {/if}
  {:else}
    <p class="quiet">
      Select a node or a link on the board to see its fields, with units and defaults. Drag from a node's right edge to
      another node to draw a link.
    </p>
  {/if}
  {#if wrong}<p class="wrong" role="alert">{wrong}</p>{/if}
  {#if of}
    {#each groups as g (g.name)}
      {#if edits || g.set}
        <details open={isOpen(g)}>
          <summary onclick={(e) => (e.preventDefault(), toggle(g))}
            >{g.name} <span class="quiet">{g.set ? `${g.set} set` : ""}</span></summary
          >
          {#if edits && g.name === "Trigger" && !linked && written?.kind === "schedule"}
            <ScheduleWords zone={String(written.zone ?? "")} onset={setSchedule} />
          {/if}
          {#each edits ? g.fields : g.fields.slice(0, g.set) as f (path.join() + f.path)}
            <FieldRow
              field={f}
              value={valueAt(of, f.path)}
              nodes={names}
              disabled={!edits}
              onset={(v) => setField(f.path, v)}
            />
          {/each}
        </details>
      {/if}
    {/each}
  {/if}
</section>

<style>
  section {
    display: grid;
    gap: 0.625rem;
    padding: 0.5rem 0.75rem 2rem;
    align-content: start;
    height: 100%;
    overflow: auto;
  }
  .head {
    display: flex;
    align-items: baseline;
    gap: 0.5rem;
    flex-wrap: wrap;
  }
  h2 {
    font-size: 1rem;
    font-weight: 600;
  }
  p {
    font-size: 0.8125rem;
  }
  .links {
    font-size: 0.8125rem;
  }
  .plain {
    background: none;
    border: none;
    color: var(--cds-link-01, #0f62fe);
    font: inherit;
    cursor: pointer;
    padding: 0;
    min-height: 1.5rem;
  }
  :global([theme="g100"]) .plain {
    color: #78a9ff;
  }
  .plain:focus-visible {
    outline: 2px solid var(--cds-focus, #0f62fe);
  }
  .wrong {
    color: var(--cds-text-error, #da1e28);
  }
  summary {
    cursor: pointer;
    font-size: 0.8125rem;
    font-weight: 600;
    padding: 0.375rem 0;
    border-top: 1px solid var(--cds-ui-03);
  }
  summary .quiet {
    font-weight: 400;
  }
  details :global(:is(.field, form)) {
    margin-bottom: 0.625rem;
  }
</style>
