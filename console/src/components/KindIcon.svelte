<script lang="ts">
  import { icons } from "../lib/kinds";

  let { kind }: { kind: string } = $props();
</script>

<svg viewBox="0 0 16 16" aria-hidden="true"><path d={icons[kind]} /></svg>

<style>
  svg {
    flex: none;
    width: 1em;
    height: 1em;
    fill: none;
    stroke: currentColor;
    stroke-width: 1.4;
    stroke-linecap: round;
    stroke-linejoin: round;
  }
</style>
