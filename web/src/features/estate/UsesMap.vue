<script setup lang="ts">
// What uses what, in columns: everything stands to the right of what it needs.
import { computed } from "vue";
import { columns } from "@/features/estate/uses";

interface Line {
  user: string;
  provider: string;
  said: string;
  bad: boolean;
}
const props = defineProps<{ lines: Line[]; focus: string; bad: (name: string) => boolean }>();
const emit = defineEmits<{ choose: [name: string] }>();
const WIDE = 150;
const GAP = 70;
const HIGH = 26;
const LONGEST = 21;
const drawn = computed(() => columns(props.lines));
const place = computed(() => {
  const found = new Map<string, { x: number; y: number }>();
  drawn.value.forEach((column, i) => column.forEach((name, j) => found.set(name, { x: i * (WIDE + GAP), y: j * (HIGH + 8) })));
  return found;
});
const width = computed(() => Math.max(drawn.value.length * (WIDE + GAP) - GAP, 200));
const height = computed(() => Math.max(...drawn.value.map((column) => column.length), 1) * (HIGH + 8));
const paths = computed(() =>
  props.lines.flatMap((use) => {
    const [from, to] = [place.value.get(use.provider), place.value.get(use.user)];
    if (!from || !to) return [];
    const [x1, y1, x2, y2] = [from.x + WIDE, from.y + HIGH / 2, to.x, to.y + HIGH / 2];
    return [{ ...use, d: `M${x1} ${y1} C${x1 + GAP / 2} ${y1} ${x2 - GAP / 2} ${y2} ${x2} ${y2}` }];
  }),
);
const fitting = (name: string) => (name.length > LONGEST ? `${name.slice(0, LONGEST - 1)}…` : name);
</script>

<template>
  <div class="map">
    <svg v-if="drawn.length" :width="width + 2" :height="height + 4" role="group" aria-label="Dependencies">
      <path v-for="one in paths" :key="one.said" :d="one.d" :class="{ bare: one.bad }"><title>{{ one.said }}</title></path>
      <g v-for="[name, at] in place" :key="name" :transform="`translate(${at.x + 1} ${at.y + 1})`" :class="{ bare: bad(name), focus: name === focus }" tabindex="0" role="button" @click="emit('choose', name)" @keydown.enter="emit('choose', name)">
        <title>{{ name }}</title>
        <rect :width="WIDE" :height="HIGH" rx="3" />
        <text x="8" y="17">{{ bad(name) ? "✕ " : "" }}{{ fitting(name) }}</text>
      </g>
    </svg>
  </div>
</template>

<style scoped>
.map {
  overflow-x: auto;
}
path {
  fill: none;
  stroke: var(--ink-3);
}
path.bare {
  stroke: var(--disaster);
  stroke-width: 1.6;
}
rect {
  fill: var(--sheet);
  stroke: var(--ink-1);
}
g.bare rect {
  stroke: var(--disaster);
  stroke-dasharray: 4 3;
}
g.focus rect {
  fill: var(--brass-soft);
  stroke-width: 2;
}
g[role="button"] {
  cursor: pointer;
}
text {
  font-size: 12.5px;
  fill: var(--ink-1);
  font-family: var(--sans);
}
</style>
