<script lang="ts">
  import { ComboBox } from "carbon-components-svelte";
  import { zone } from "../lib/zone.svelte";

  const items = zone.all.map((z) => ({ id: z, text: z.replaceAll("_", " ") }));
  const now = Date.now();
</script>

<section class="narrow" aria-label="Times">
  <h2>Times</h2>
  <ComboBox
    size="sm"
    labelText="Times are shown in"
    placeholder="Your own zone"
    helperText="Now it is {zone.format(now, {
      weekday: 'short',
      hour: '2-digit',
      minute: '2-digit',
      timeZoneName: 'short',
    })} there. Schedules keep their own zones."
    {items}
    selectedId={zone.name}
    shouldFilterItem={(item, typed) => !typed || item.text.toLowerCase().includes(typed.toLowerCase())}
    on:select={({ detail }) => zone.choose(detail.selectedId)}
    on:clear={() => zone.choose("")}
  />
</section>
