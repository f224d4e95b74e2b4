<script setup lang="ts">
// Where does everything run now? Stations in a row, protection as arrows between them.
import { computed, onMounted, onScopeDispose, ref, useTemplateRef } from "vue";
import type { SiteLine } from "@/api/types";
import { clock, count, duration } from "@/ui/format";

const props = defineProps<{ line: SiteLine }>();
const box = useTemplateRef<HTMLElement>("box");
const width = ref(1100);
const observer = new ResizeObserver(([entry]) => {
  if (entry) width.value = entry.contentRect.width;
});
onMounted(() => box.value && observer.observe(box.value));
onScopeDispose(() => observer.disconnect());

const WIDEST = 148;
const BOX = computed(() => Math.min(WIDEST, (width.value - 16) / Math.max(props.line.stations.length, 1) - 12));
const places = computed(() => {
  const pad = Math.min(56, width.value * 0.04);
  const room = (width.value - BOX.value - 2 * pad) / Math.max(props.line.stations.length - 1, 1);
  return new Map(props.line.stations.map((station, i) => [station.code, pad + i * room]));
});

interface Thread {
  key: string;
  d: string;
  arrow: string;
  x: number;
  y: number;
  below: boolean;
  label: string;
  run: number | null;
  kind: string;
  strong: boolean;
  lost: boolean;
  playhead: number | null;
}

const threads = computed<Thread[]>(() => {
  const order = props.line.stations.map((station) => station.code);
  const lost = new Set(props.line.stations.filter((s) => s.lost_because).map((s) => s.code));
  const cut = props.line.links.filter((link) => link.cut_because);
  // A run may move all that flowed, or flow against what is copied: it is drawn all the same.
  const still = props.line.runs.filter((run) => !props.line.flows.some((flow) => flow.source === run.source && flow.target === run.target));
  const alone = [...new Map(still.map((run) => [`${run.source}-${run.target}`, { source: run.source, target: run.target, groups: 0, oldest_s: null, without_point: 0 }])).values()];
  const all = [...alone, ...props.line.flows];
  return all.map((flow) => {
    const because = cut.find((link) => [link.one, link.other].includes(flow.source) && [link.one, link.other].includes(flow.target))?.cut_because;
    const a = places.value.get(flow.source) ?? 0;
    const b = places.value.get(flow.target) ?? 0;
    const next = Math.abs(order.indexOf(flow.source) - order.indexOf(flow.target)) === 1;
    const [x1, x2] = a < b ? [a + BOX.value, b] : [a, b + BOX.value];
    const mid = (x1 + x2) / 2;
    const way = b > a ? 1 : -1;
    // Where something goes both ways there are two threads, the one to the left below, with its words.
    const both = all.some((other) => other.source === flow.target && other.target === flow.source);
    const below = both && way < 0;
    const y = !next ? 52 : below ? 36 : both ? 22 : 28;
    const run = props.line.runs.find((r) => r.source === flow.source && r.target === flow.target);
    const age = flow.without_point ? `${flow.without_point === flow.groups ? "" : `${flow.without_point} `}without a point yet` : `points up to ${duration(flow.oldest_s ?? 0)} old`;
    return {
      key: `${flow.source}-${flow.target}`,
      y,
      below,
      d: next ? `M${x1} ${y} H${x2}` : `M${x1 - 40 * way} 48 C${x1} ${y + 10} ${x2} ${y + 10} ${x2 + 40 * way} 48`,
      arrow: `M${mid - 5 * way} ${y - 6} l${9 * way} 6 l${-9 * way} 6`,
      x: mid,
      label: run
        ? `${run.plan_name}: ${run.kind}, ${clock(run.run_s)} in${run.waits ? ", needs you" : ""}`
        : because
          ? "cut: nothing is copied"
          : `${count(flow.groups, "group")}, ${age}`,
      run: run?.id ?? null,
      kind: run?.kind ?? "",
      strong: flow.groups > 2,
      lost: !!because || lost.has(flow.source) || lost.has(flow.target),
      playhead: run ? x1 + (x2 - x1) * Math.min(run.run_s / 1800, 1) : null,
    };
  });
});
const bits = (n: number) => Array.from({ length: Math.min(n, 30) }, (_, i) => i);
</script>

<template>
  <div ref="box" class="site-line" aria-label="Sites">
    <svg :width="width" height="58" aria-hidden="true">
      <line x1="0" :x2="width" y1="28" y2="28" class="ground" />
      <g v-for="thread in threads" :key="thread.key" :class="['thread', thread.kind, { strong: thread.strong, lost: thread.lost, run: thread.run }]">
        <path :d="thread.d" class="way" />
        <path v-if="!thread.lost" :d="thread.arrow" class="arrow" />
        <path v-else :d="`M${thread.x - 6} ${thread.y - 6} l12 12 m0 -12 l-12 12`" class="cut" />
        <circle v-if="thread.playhead !== null" :cx="thread.playhead" :cy="thread.y" r="4.5" class="playhead" />
      </g>
    </svg>
    <component
      :is="thread.run ? 'RouterLink' : 'span'"
      v-for="thread in threads"
      :key="thread.key"
      :to="thread.run ? `/runs/${thread.run}` : undefined"
      class="label"
      :class="[thread.kind, { run: thread.run, below: thread.below }]"
      :style="{ left: `${thread.x}px` }"
      >{{ thread.label }}</component
    >
    <div
      v-for="station in line.stations"
      :key="station.code"
      class="station"
      :class="{ lost: station.lost_because }"
      :style="{ left: `${places.get(station.code)}px`, width: `${BOX}px` }"
      :title="station.lost_because ?? `${station.name}: ${count(station.running, 'workload')} running`"
    >
      <strong>{{ station.name }}</strong>
      <span v-if="station.lost_because" class="bad">✕ does not answer</span>
      <span v-else>
        {{ station.running }}<span class="word"> running</span><template v-if="station.copies > 0">, {{ count(station.copies, "copy", "copies") }}</template>
      </span>
      <span class="bits" aria-hidden="true">
        <i v-for="bit in bits(station.running)" :key="bit" /><i v-for="bit in bits(station.copies)" :key="`c${bit}`" class="copy" />
      </span>
    </div>
  </div>
</template>

<style scoped>
.site-line {
  position: relative;
  height: 58px;
  border-bottom: 1px solid var(--rule);
  background: var(--paper);
  overflow: hidden;
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
.run .way {
  stroke: var(--test);
  stroke-dasharray: 8 5;
}
.run .arrow {
  stroke: var(--test);
}
.run.planned .way,
.run.re-protect .way {
  stroke: var(--planned);
  stroke-width: 4;
  stroke-dasharray: none;
}
.run.disaster .way {
  stroke: var(--disaster);
  stroke-width: 4;
  stroke-dasharray: none;
}
.run.planned .arrow,
.run.re-protect .arrow {
  stroke: var(--planned);
}
.run.disaster .arrow {
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
  top: 3px;
  transform: translateX(-50%);
  font-size: var(--text-s);
  color: var(--ink-2);
  white-space: nowrap;
  text-decoration: none;
}
.label.below {
  top: 40px;
}
.label.run {
  color: var(--test);
  font-weight: 600;
}
.label.run.planned,
.label.run.re-protect {
  color: var(--planned);
}
.label.run.disaster {
  color: var(--disaster);
}
.station {
  position: absolute;
  top: 7px;
  height: 44px;
  border: 1.4px solid var(--ink-1);
  border-radius: var(--radius);
  background: var(--sheet);
  padding: 3px 9px;
  font-size: var(--text-s);
  line-height: 1.45;
  display: flex;
  flex-direction: column;
}
.station strong {
  font-size: 13px;
}
.station.lost {
  border: 3px double var(--disaster);
}
.bits {
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
.bits i {
  width: 2.2px;
  height: 5px;
  background: var(--ink-1);
}
.bits i.copy {
  background: var(--test);
}
@media (max-width: 760px) {
  .label {
    display: none;
  }
  .bits,
  .word {
    display: none;
  }
  .station {
    padding: 3px 6px;
  }
}
</style>
