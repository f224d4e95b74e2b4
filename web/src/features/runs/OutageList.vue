<script setup lang="ts">
import { computed } from "vue";
import type { RunStatus } from "@/api/types";
import { clock } from "@/ui/format";

const props = defineProps<{ outages: RunStatus["outages"]; runS: number; ended: boolean }>();
const MOST = 8;
// Those that are still away first, the longest outage on top.
const rows = computed(() =>
  props.outages
    .map((one) => ({ ...one, seconds: (one.to_s ?? props.runS) - one.from_s - one.up_s, away: one.to_s === null && !one.left_off }))
    .sort((a, b) => Number(b.away) - Number(a.away) || Number(a.left_off) - Number(b.left_off) || b.seconds - a.seconds),
);
type Row = (typeof rows.value)[number];
function how(one: Row): string {
  if (one.left_off) return one.to_s === null ? "left off by intent" : `${clock(one.seconds)}, left off by intent`;
  const times = one.spells > 1 ? `, ${one.spells} times` : "";
  const end = one.away ? (props.ended ? ", not back when the run ended" : " and counting") : "";
  return `${clock(one.seconds)}${times}${end}${one.assumed && one.away ? " (assumed: its site is silent)" : ""}`;
}
</script>

<template>
  <section v-if="rows.length" aria-label="Outage">
    <h2>Outage of services</h2>
    <ul>
      <li v-for="one in rows.slice(0, MOST)" :key="`${one.workload}/${one.service}`" :class="{ bad: one.away }">
        <span class="mono">{{ one.service }}</span>
        <span class="mono">{{ how(one) }}</span>
      </li>
      <li v-if="rows.length > MOST" class="quiet">and {{ rows.length - MOST }} more</li>
    </ul>
  </section>
</template>

<style scoped>
li {
  display: flex;
  justify-content: space-between;
  padding: 1px 0;
}
</style>
