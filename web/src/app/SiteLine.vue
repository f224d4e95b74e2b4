<script setup lang="ts">
// Where does everything run now? Stations in a row with what goes between them; where that has no room, what matters.
import { useElementSize } from "@vueuse/core";
import { computed, useTemplateRef } from "vue";
import type { SiteLine } from "@/api/types";
import SiteStation from "@/app/SiteStation.vue";
import { drawn, folded, type Place } from "@/app/siteLine";
import { clock, count } from "@/ui/format";

const props = defineProps<{ line: SiteLine }>();
const NARROW = 560;
const HIGH = 64;
const MIDDLE = HIGH / 2;
const APART = 6;
const box = useTemplateRef<HTMLElement>("box");
const { width } = useElementSize(box, { width: 1100, height: HIGH });
const drawing = computed(() => drawn(props.line, width.value));
const list = computed(() => folded(props.line, width.value < NARROW));
const nameOf = (code: string) => props.line.stations.find((station) => station.code === code)?.name ?? code;
const yOf = (place: Place) => (place.both ? (place.below ? MIDDLE + APART : MIDDLE - APART) : MIDDLE);
function arrow(place: Place) {
  const way = (drawing.value?.row.findIndex((one) => one.station.code === place.source) ?? 0) < (drawing.value?.row.findIndex((one) => one.station.code === place.target) ?? 0) ? 1 : -1;
  return `M${(place.x1 + place.x2) / 2 - 5 * way} ${yOf(place) - 6} l${9 * way} 6 l${-9 * way} 6`;
}
// A run is as far as its time is along half an hour.
const ALL_OF_IT_S = 1800;
const runAt = (place: Place) => {
  const run = props.line.runs.find((one) => one.id === place.run);
  return run ? place.x1 + (place.x2 - place.x1) * Math.min(run.run_s / ALL_OF_IT_S, 1) : null;
};
// Several runs between the same two sites: the others have a line of their own.
const beside = computed(() => props.line.runs.filter((run) => !(drawing.value?.places ?? list.value.ways).some((way) => way.run === run.id)));
</script>

<template>
  <section ref="box" class="site-line" :class="{ drawn: drawing }" aria-label="Sites">
    <template v-if="drawing">
      <svg :width="width" :height="HIGH" aria-hidden="true">
        <line x1="0" :x2="width" :y1="MIDDLE" :y2="MIDDLE" class="ground" />
        <g v-for="place in drawing.places" :key="place.key" :class="['thread', place.kind, { strong: place.strong, lost: place.lost, run: place.run }]">
          <path :d="`M${place.x1} ${yOf(place)} H${place.x2}`" class="way" />
          <path v-if="!place.lost" :d="arrow(place)" class="arrow" />
          <path v-else :d="`M${(place.x1 + place.x2) / 2 - 6} ${yOf(place) - 6} l12 12 m0 -12 l-12 12`" class="cut" />
          <circle v-if="runAt(place) !== null" :cx="runAt(place)!" :cy="yOf(place)" r="4.5" class="playhead" />
        </g>
      </svg>
      <component
        :is="place.run ? 'RouterLink' : 'span'"
        v-for="place in drawing.places"
        :key="place.key"
        :to="place.run ? `/runs/${place.run}` : undefined"
        class="label"
        :class="[place.kind, { run: place.run, below: place.below }]"
        :style="{ left: `${place.x1 + 8}px`, width: `${place.x2 - place.x1 - 16}px` }"
      >{{ place.label }}</component
      >
      <SiteStation v-for="one in drawing.row" :key="one.station.code" :station="one.station" strokes class="at" :style="{ left: `${one.x}px`, width: `${one.wide}px` }" />
    </template>
    <template v-else>
      <p class="chips">
        <SiteStation v-for="station in list.stations" :key="station.code" :station="station" :strokes="false" />
        <RouterLink v-if="list.quiet.length" to="/estate/sites" class="quiet" :title="list.quiet.map((station) => station.name).join(', ')">
          {{ count(list.quiet.length, list.stations.length ? "other site" : "site") }} answer, {{ list.quiet.reduce((sum, station) => sum + station.running, 0) }} running
        </RouterLink>
      </p>
      <ul v-if="list.ways.length || list.more.length" class="ways">
        <li v-for="way in list.ways" :key="way.key" :class="[way.kind, { run: way.run, bad: way.lost }]">
          <span class="from">{{ nameOf(way.source) }} {{ way.lost ? "✕" : "→" }} {{ nameOf(way.target) }}</span>
          <component :is="way.run ? 'RouterLink' : 'span'" :to="way.run ? `/runs/${way.run}` : undefined">{{ way.label }}</component>
        </li>
        <li v-if="list.more.length" class="quiet">{{ count(list.more.length, "other flow") }} without trouble</li>
      </ul>
    </template>
    <p v-for="run in beside" :key="run.id" class="beside">
      <RouterLink :to="`/runs/${run.id}`">{{ run.plan_name }}: {{ run.kind }} {{ nameOf(run.source) }} → {{ nameOf(run.target) }}, {{ clock(run.run_s) }} in{{ run.waits ? ", needs you" : "" }}</RouterLink>
    </p>
  </section>
</template>

<style scoped>
.site-line {
  border-bottom: 1px solid var(--rule);
  background: var(--paper);
  min-height: 65px;
}
.drawn {
  position: relative;
}
svg {
  display: block;
}
.ground {
  stroke: var(--rule);
}
.way,
.arrow,
.cut {
  fill: none;
  stroke: var(--ink-2);
  stroke-width: 1.6;
}
.strong .way {
  stroke: var(--ink-1);
  stroke-width: 4;
}
.strong .arrow {
  stroke: var(--ink-1);
  stroke-width: 2;
}
.thread.run .way {
  stroke: var(--test);
  stroke-dasharray: 8 5;
}
.thread.run .arrow {
  stroke: var(--test);
}
.thread.planned .way,
.thread.re-protect .way {
  stroke: var(--planned);
  stroke-width: 4;
  stroke-dasharray: none;
}
.thread.disaster .way {
  stroke: var(--disaster);
  stroke-width: 4;
  stroke-dasharray: none;
}
.thread.planned .arrow,
.thread.re-protect .arrow {
  stroke: var(--planned);
}
.thread.disaster .arrow {
  stroke: var(--disaster);
}
.lost .way {
  stroke: var(--disaster);
  stroke-dasharray: 3 6;
}
.cut {
  stroke: var(--disaster);
  stroke-width: 3;
}
.playhead {
  fill: var(--brass);
  stroke: var(--sheet);
  stroke-width: 1.5;
}
.label {
  position: absolute;
  bottom: calc(100% - 27px);
  font-size: var(--text-s);
  line-height: 1.08;
  text-align: center;
  color: var(--ink-2);
  text-decoration: none;
}
.label.below {
  bottom: auto;
  top: 41px;
}
.label.run,
li.run {
  color: var(--test);
  font-weight: 600;
}
.label.planned,
.label.re-protect,
li.planned,
li.re-protect {
  color: var(--planned);
}
.label.disaster,
li.disaster {
  color: var(--disaster);
}
.at {
  position: absolute;
  top: 6px;
  height: 52px;
}
.chips,
.ways {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 4px var(--gap-2);
  padding: 5px var(--gap-3);
}
.ways {
  gap: 0 var(--gap-4);
  padding-top: 0;
  font-size: var(--text-s);
}
.from {
  margin-right: 4px;
}
.beside {
  padding: 0 var(--gap-3) 4px;
  font-size: var(--text-s);
}
</style>
