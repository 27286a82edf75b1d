<script lang="ts">
  import { Button, Modal } from "carbon-components-svelte";
  import Tools from "carbon-icons-svelte/lib/Tools.svelte";
  import { api, sentence, type Finding, type Problem } from "../lib/api";
  import { plain } from "../lib/code";
  import CodeText from "./CodeText.svelte";

  let {
    findings,
    wrong,
    empty = false,
    onchoose,
    onapply,
  }: {
    findings: Finding[];
    wrong: Problem[];
    empty?: boolean;
    onchoose: (node: string, line: number) => void;
    onapply: (remedy: Finding["remedies"][number]) => void;
  } = $props();

  let explained = $state({ open: false, title: "", paragraphs: [] as string[] });

  /** Shows a rule's page: what it means, and what to do. */
  async function explain(code: string) {
    const { data, error } = await api.POST("/api/v1/commands/{command}", {
      params: { path: { command: "explain" } },
      body: { args: [code], files: {} },
    });
    const bytes = Uint8Array.from(atob(data?.out ?? ""), (c) => c.charCodeAt(0));
    const text = error ? sentence(error) : new TextDecoder().decode(bytes);
    const recorded = text
      .trim()
      .split(/\n\n+/)
      .map((p) => p.replace(/\s+/g, " "));
    const title = recorded[0].startsWith(code) ? recorded.shift()! : code;
    explained = { open: true, title, paragraphs: recorded };
  }
</script>

<section aria-label="Findings">
  {#if wrong.length}
    <ul>
      {#each wrong as t, i (i)}
        <li class="error">
          <button onclick={() => onchoose("", t.line)}><b>line {t.line}</b> <CodeText text={t.message} /></button>
        </li>
      {/each}
    </ul>
  {:else if findings.length === 0}
    <p class="quiet">
      {empty
        ? "The model has no nodes yet. Add one on the board, or write it into the text."
        : "No findings: no loop, no single point of loss, nothing that cannot work."}
    </p>
  {:else}
    <ul>
      {#each findings as f (f.id + f.code)}
        <li class={f.accepted ? "accepted" : f.severity} data-code={f.code}>
          <button onclick={() => onchoose(f.nodes[0] ?? "", f.position.line)}>
            <b>{f.code} {f.title}</b>
            <span><CodeText text={f.message} /></span>
            {#if f.accepted}
              <i>accepted: {f.accepted.because}</i>
            {/if}
          </button>
          <button class="plain as-link why" onclick={() => explain(f.code)} aria-label="Explain {f.code}"
            >About {f.code}</button
          >
          {#if !f.accepted}
            {#each f.remedies as r, i (i)}
              <p class="remedy">
                <Button
                  kind="ghost"
                  size="small"
                  icon={Tools}
                  on:click={() => onapply(r)}
                  aria-label="Apply: {plain(r.say)}">Apply</Button
                > <span><CodeText text={r.say} /></span>
              </p>
            {/each}
          {/if}
        </li>
      {/each}
    </ul>
  {/if}
</section>

<Modal bind:open={explained.open} passiveModal size="sm" modalHeading={explained.title}>
  {#each explained.paragraphs as p (p)}<p class="page-of-rule"><CodeText text={p} /></p>{/each}
</Modal>

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
    border-color: var(--loses);
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
  .why {
    padding: 0 0.625rem 0.25rem;
    font-size: 0.75rem;
  }
  .page-of-rule {
    padding: 0 0 0.75rem;
  }
  li > button:not(.why) {
    display: flex;
    flex-direction: column;
    gap: 0.125rem;
    width: 100%;
    padding: 0.375rem 0.625rem;
    background: none;
    border: none;
    color: inherit;
    font: inherit;
    text-align: left;
    cursor: pointer;
    line-height: 1.35;
  }
  li > button:not(.why):hover {
    background: var(--cds-hover-ui);
  }
  li > button:focus-visible {
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
