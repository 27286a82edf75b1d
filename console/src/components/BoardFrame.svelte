<script lang="ts">
  /** The frame of a group; bare: only its name, over the middle of what belongs to it. */
  let { data }: { data: { name: string; bare?: boolean } } = $props();
</script>

<div data-group={data.name} class:bare={data.bare}><span>{data.name}</span></div>

<style>
  div {
    height: 100%;
    border: 1px solid var(--board-edge);
    border-radius: 4px;
    background: color-mix(in srgb, var(--board-edge) 7%, transparent);
  }
  span {
    display: block;
    padding: 0.25rem 1rem;
    font-size: max(1.25rem, calc(13px / var(--zoom, 1)));
    font-weight: 600;
    color: var(--cds-text-02);
  }
  .bare {
    display: grid;
    place-items: center;
    border: 0;
    background: none;
    pointer-events: none;
  }
  .bare span {
    padding: 0 0.25em;
    color: var(--cds-text-01);
    background: color-mix(in srgb, var(--board-ground) 80%, transparent);
    max-width: 100%;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
</style>
