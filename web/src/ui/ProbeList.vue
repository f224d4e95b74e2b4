<script setup lang="ts">
// What probes that go on all the time see of chosen services in a test.
import type { RunStatus } from "@/api/types";
import { clock, duration } from "@/ui/format";

type Probes = RunStatus["probes"][number];
defineProps<{ probes: Probes[] }>();
function seen(one: Probes): string {
  if (!one.seen) return "its site made no probes";
  if (one.up_s === null) return one.until_s === null ? "has not answered yet" : "never answered";
  const until = one.until_s === null ? "" : ` until ${clock(one.until_s)}`;
  if (!one.breaks) return `answered from ${clock(one.up_s)}${until}, no break`;
  const longest = one.breaks > 1 ? `, the longest ${duration(one.longest_s)}` : "";
  return `answered from ${clock(one.up_s)}${until}, ${one.breaks === 1 ? "one break" : `${one.breaks} breaks`} of ${duration(one.away_s)}${longest}`;
}
</script>

<template>
  <section aria-label="Probes">
    <h2>Probed continuously</h2>
    <ul>
      <li v-for="one in probes" :key="`${one.workload}/${one.service}`" :class="{ bad: one.breaks || (one.until_s !== null && one.up_s === null) }">
        <span class="mono">{{ one.service }}</span> of {{ one.workload }} {{ seen(one) }}
      </li>
    </ul>
  </section>
</template>
