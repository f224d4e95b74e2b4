<script setup lang="ts">
// A site on the site line: what runs there, each machine a stroke.
import type { Station } from "@/app/siteLine";
import { count } from "@/ui/format";

defineProps<{ station: Station; strokes: boolean }>();
const MOST_STROKES = 30;
const strokesOf = (n: number) => Math.min(n, MOST_STROKES);
</script>

<template>
  <RouterLink
    to="/estate/sites"
    class="station"
    :class="{ lost: station.lost_because }"
    :title="station.lost_because ? `${station.name} (${station.code}): ${station.lost_because}` : `${station.name} (${station.code}): ${count(station.running, 'workload')} running`"
  >
    <strong>{{ station.name }}</strong>
    <span v-if="station.lost_because" class="bad">✕ does not answer</span>
    <span v-else>{{ station.running }} running<template v-if="station.copies > 0">, {{ count(station.copies, "copy", "copies") }}</template></span>
    <span v-if="strokes" class="strokes" aria-hidden="true">
      <i v-for="n in strokesOf(station.running)" :key="n" /><i v-for="n in strokesOf(station.copies)" :key="`c${n}`" class="copy" />
    </span>
  </RouterLink>
</template>

<style scoped>
.station {
  border: 1.4px solid var(--ink-1);
  border-radius: var(--radius);
  background: var(--sheet);
  padding: 2px 9px;
  font-size: var(--text-s);
  line-height: 1.3;
  display: flex;
  flex-direction: column;
  justify-content: center;
  text-decoration: none;
}
strong {
  font-size: 13px;
  line-height: 1.15;
}
.lost {
  border: 3px double var(--disaster);
  /* As wide as the others, and its sentence in one line among five sites. */
  padding: 0 4px;
  white-space: nowrap;
}
.strokes {
  position: absolute;
  right: 7px;
  top: 6px;
  width: 40px;
  display: flex;
  flex-wrap: wrap;
  gap: 1.5px;
  justify-content: flex-end;
  max-height: 20px;
  overflow: hidden;
}
i {
  width: 2.2px;
  height: 5px;
  background: var(--ink-1);
}
.copy {
  background: var(--test);
}
</style>
