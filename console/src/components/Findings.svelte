<script lang="ts">
  import { Button, Search } from "carbon-components-svelte";
  import ChevronRight from "carbon-icons-svelte/lib/ChevronRight.svelte";
  import type { Snippet } from "svelte";
  import Tools from "carbon-icons-svelte/lib/Tools.svelte";
  import { type Finding, type Problem } from "../lib/api";
  import { plain } from "../lib/code";
  import { findingMatches, firstRemedies, groupFindings, many } from "../lib/finding-groups";
  import { patchLines } from "../lib/patch-lines";
  import CodeText from "./CodeText.svelte";
  import RuleExplained from "./RuleExplained.svelte";

  let {
    findings,
    wrong,
    empty = false,
    edits = true,
    explains = true,
    document = {},
    children,
    onchoose,
    onapply,
    onrate,
  }: {
    findings: Finding[];
    wrong: Problem[];
    empty?: boolean;
    edits?: boolean; // whether remedies can be applied
    explains?: boolean; // whether rules can be looked up
    document?: unknown; // the model as it is, to say what remedies change of it
    children?: Snippet; // beside the filters
    onchoose: (node: string, line: number) => void;
    onapply: (remedies: Finding["remedies"]) => void;
    onrate?: (node: string) => void; // to say how often a node that nothing reaches is used
  } = $props();

  const severities = ["error", "warning", "note"];
  const few = 6; // up to so many are neither searched nor filtered
  let looked = $state("");
  let hidden = $state<string[]>([]);
  let opened = $state<string[]>([]); // groups
  const narrowed = $derived(looked.trim() !== "" || hidden.length > 0);
  const shown = $derived(findings.filter((f) => !hidden.includes(f.severity) && findingMatches(f, looked)));
  const groups = $derived(groupFindings(shown));
  const count = (severity: string) => findings.filter((f) => !f.accepted && f.severity === severity).length;
  const toggled = (list: string[], item: string) =>
    list.includes(item) ? list.filter((x) => x !== item) : [...list, item];

  let page = $state<RuleExplained>();

  const unreached = "IW306"; // nothing reaches a node
  const mostChanges = 4; // of one remedy that are shown
</script>

<section aria-label="Findings">
  {#if wrong.length}
    <ul>
      {#each wrong as t, i (i)}
        <li class="error">
          <button class="entry" onclick={() => onchoose("", t.line)}
            ><b>line {t.line}</b> <CodeText text={t.message} /></button
          >
        </li>
      {/each}
    </ul>
  {:else if findings.length === 0}
    <p class="quiet">
      {empty
        ? "The model has no nodes yet. Add one on the board, or write it into the text."
        : "No findings: no loop, no single point of loss, nothing that cannot work."}
    </p>
    {@render children?.()}
  {:else}
    <div class="narrow">
      {#if findings.length > few}
        <Search size="sm" labelText="Find a finding" placeholder="Rule, node or word" bind:value={looked} />
        {#each severities.filter(count) as severity (severity)}
          <button
            class="severity {severity}"
            aria-pressed={!hidden.includes(severity)}
            onclick={() => (hidden = toggled(hidden, severity))}
            >{count(severity)} {severity}{count(severity) === 1 ? "" : "s"}</button
          >
        {/each}
      {/if}
      {@render children?.()}
    </div>
    {#if shown.length === 0}
      <p class="quiet">
        None of the {findings.length} findings is shown: {looked.trim() ? "no word fits" : "the filters hide them"}.
      </p>
    {/if}
    <ul>
      {#each groups as g (g.key)}
        {#if g.findings.length < many || g.severity === "accepted"}
          {#each g.findings as f (f.id)}{@render entry(f)}{/each}
        {:else}
          {@const open = narrowed || opened.includes(g.key)}
          {@const all = firstRemedies(g.findings)}
          <li class="group {g.severity}">
            <div class="head">
              <button class="title" aria-expanded={open} onclick={() => (opened = toggled(opened, g.key))}>
                <span class="turn" class:open><ChevronRight /></span>
                <b>{g.findings.length} × {g.findings[0].code} <CodeText text={g.title} /></b>
              </button>
              {#if edits && all.length > 1}
                <Button kind="ghost" size="small" icon={Tools} on:click={() => onapply(all)}
                  >Apply to all: {all.length} changes</Button
                >
              {/if}
            </div>
            {#if !open}
              <p class="quiet about">{[...new Set(g.findings.map((f) => f.nodes[0]))].filter(Boolean).join(", ")}</p>
            {/if}
            <ul hidden={!open}>
              {#each g.findings as f (f.id)}{@render entry(f)}{/each}
            </ul>
          </li>
        {/if}
      {/each}
    </ul>
  {/if}
</section>

{#snippet entry(f: Finding)}
  <li class={f.accepted ? "accepted" : f.severity} data-code={f.code}>
    <button class="entry" onclick={() => onchoose(f.nodes[0] ?? "", f.position.line)}>
      <b>{f.code} {f.title}</b>
      <span><CodeText text={f.message} /></span>
      {#if f.accepted}
        <i>accepted: {f.accepted.because}</i>
      {/if}
    </button>
    {#if explains}
      <button class="plain as-link why" onclick={() => page?.explain(f.code)} aria-label="Explain {f.code}"
        >About {f.code}</button
      >
    {/if}
    {#if !f.accepted && edits && f.code === unreached && onrate}
      <p class="remedy">
        <Button kind="ghost" size="small" icon={Tools} on:click={() => onrate(f.nodes[0])}>Set a rate</Button>
        <span>how often external senders use it</span>
      </p>
    {/if}
    {#if !f.accepted && edits}
      {#each f.remedies as r, i (i)}
        {@const changes = patchLines(document, r.patch)}
        <p class="remedy">
          <Button
            kind="ghost"
            size="small"
            icon={Tools}
            on:click={() => onapply([r])}
            aria-label="Apply: {plain(r.say)}">Apply</Button
          > <span><CodeText text={r.say} /></span>
        </p>
        <ul class="changes mono">
          {#each changes.slice(0, mostChanges) as c (c.path)}
            <li>
              {c.path}: {#if c.before !== undefined}<del>{c.before}</del>{/if}
              {#if c.after !== undefined}<ins>{c.after}</ins>{/if}
            </li>
          {/each}
          {#if changes.length > mostChanges}<li>
              and {changes.length - mostChanges} more
            </li>{/if}
        </ul>
      {/each}
    {/if}
  </li>
{/snippet}

<RuleExplained bind:this={page} />

<style>
  section {
    padding: 0.25rem 0;
    font-size: 0.8125rem;
  }
  p {
    padding: 0.75rem 1rem;
  }
  li {
    border-left: 4px solid var(--cds-ui-04);
    margin: 0.25rem 0.5rem;
  }
  li.error {
    border-color: var(--cds-support-01);
  }
  li.warning {
    border-color: var(--cds-support-03);
  }
  li.note {
    border-color: var(--cds-support-04);
  }
  li.accepted {
    color: var(--cds-text-02);
  }
  .remedy {
    font-size: inherit;
    line-height: 1.35;
    display: flex;
    align-items: center;
    gap: 0.5rem;
    padding: 0 0.625rem 0.25rem 0;
    color: var(--cds-text-02);
  }
  .changes {
    padding: 0 0.625rem 0.375rem 5.75rem;
    font-size: 0.6875rem;
    color: var(--cds-text-02);
  }
  .changes li {
    border: none;
    margin: 0;
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .changes del {
    color: var(--cds-text-02);
  }
  .changes ins {
    color: var(--fine);
    text-decoration: none;
  }
  .why {
    padding: 0 0.625rem 0.25rem;
    font-size: 0.75rem;
  }
  .narrow {
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: 0.375rem;
    padding: 0.25rem 0.5rem;
  }
  .narrow > :global(.bx--search) {
    max-width: 16rem;
  }
  .severity {
    padding: 0.25rem 0.625rem;
    border: 1px solid var(--cds-ui-04);
    border-left-width: 4px;
    background: var(--cds-ui-01);
    color: var(--cds-text-01);
    font: inherit;
    white-space: nowrap;
    cursor: pointer;
  }
  .severity[aria-pressed="false"] {
    background: none;
    color: var(--cds-text-02);
    text-decoration: line-through;
  }
  .severity.error {
    border-left-color: var(--cds-support-01);
  }
  .severity.warning {
    border-left-color: var(--cds-support-03);
  }
  .severity.note {
    border-left-color: var(--cds-support-04);
  }
  .head {
    display: flex;
    align-items: center;
    justify-content: space-between;
    gap: 0.5rem;
  }
  .turn {
    display: inline-flex;
    flex: none;
  }
  .turn.open {
    transform: rotate(90deg);
  }
  .about {
    font-size: 0.75rem;
    padding: 0 0.625rem 0.375rem 1.875rem;
    overflow-wrap: anywhere;
  }
  .group > ul {
    padding-left: 0.875rem;
  }
  .entry,
  .title {
    display: flex;
    background: none;
    border: none;
    color: inherit;
    font: inherit;
    text-align: left;
    cursor: pointer;
  }
  .entry {
    flex-direction: column;
    gap: 0.125rem;
    width: 100%;
    padding: 0.375rem 0.625rem;
    line-height: 1.35;
  }
  .title {
    align-items: center;
    gap: 0.375rem;
    padding: 0.375rem 0.5rem;
  }
  .entry:hover,
  .title:hover {
    background: var(--cds-hover-ui);
  }
  button:focus-visible {
    outline: 2px solid var(--cds-focus, #0f62fe);
    outline-offset: -2px;
  }
  b {
    font-weight: 600;
  }
  i {
    color: var(--cds-text-02);
  }
</style>
