<script lang="ts">
  /** A bar between two parts of a page: drawn with the pointer, moved with the arrow keys, back to the middle with a double press. */
  let {
    kind,
    label,
    share = $bindable(),
    usual,
    least = 0.15,
    most = 0.85,
    within,
  }: {
    kind: "columns" | "rows";
    label: string;
    share: number;
    usual: number;
    least?: number;
    most?: number;
    within: () => DOMRect | undefined;
  } = $props();

  const bounded = (x: number) => Math.min(most, Math.max(least, x));
  let held = $state(false);

  function move(e: PointerEvent) {
    const box = held && within();
    if (box)
      share = bounded(kind === "columns" ? (e.clientX - box.left) / box.width : (e.clientY - box.top) / box.height);
  }
  function press(e: KeyboardEvent) {
    const by = { ArrowLeft: -0.03, ArrowUp: -0.03, ArrowRight: 0.03, ArrowDown: 0.03 }[e.key];
    if (e.key === "Home") share = usual;
    else if (by) share = bounded(share + by);
    else return;
    e.preventDefault();
    e.stopPropagation();
  }
</script>

<!-- svelte-ignore a11y_no_noninteractive_tabindex, a11y_no_noninteractive_element_interactions -->
<div
  class={kind}
  role="separator"
  tabindex="0"
  aria-label={label}
  aria-orientation={kind === "columns" ? "vertical" : "horizontal"}
  aria-valuemin={Math.round(100 * least)}
  aria-valuemax={Math.round(100 * most)}
  aria-valuenow={Math.round(100 * share)}
  title="Drag to resize; double-click to reset"
  onpointerdown={(e) => {
    held = true;
    e.currentTarget.setPointerCapture(e.pointerId);
  }}
  onpointermove={move}
  onpointerup={() => (held = false)}
  onpointercancel={() => (held = false)}
  ondblclick={() => (share = usual)}
  onkeydown={press}
></div>

<style>
  div {
    background: var(--cds-ui-03);
    touch-action: none;
    z-index: 3;
  }
  div:hover,
  div:focus-visible {
    background: var(--cds-focus, #0f62fe);
    outline: none;
  }
  .columns {
    width: 5px;
    cursor: col-resize;
  }
  .rows {
    height: 5px;
    cursor: row-resize;
  }
</style>
