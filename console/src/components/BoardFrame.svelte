<script lang="ts">
  let { data }: { data: { name: string } } = $props();
</script>

<div data-group={data.name}><span>{data.name}</span></div>

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
    font-size: 1.25rem;
    font-weight: 600;
    color: var(--cds-text-02);
  }
</style>
