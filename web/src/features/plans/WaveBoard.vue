<script setup lang="ts">
// Columns are waves, cards are workloads. One or several cards are dragged, or moved with the arrow keys; a
// rectangle drawn from empty ground chooses all that it touches.
import { computed, ref, useTemplateRef } from "vue";
import type { Plan } from "@/api/types";
import { CUE_SIGNS, CUE_WORDS, kindOf, MOST_WAVES, type Owner } from "@/features/plans/draft";
import WorkloadCard from "@/features/plans/WorkloadCard.vue";
import { useLasso } from "@/features/plans/lasso";
import { useThreads } from "@/features/plans/waveThreads";
import KeptInput from "@/ui/KeptInput.vue";
import { list, roman } from "@/ui/format";

const props = defineProps<{ plan: Plan; first: number; parts: string[]; selected: string[]; wave: number | null; troubled: string[]; dependencies: [string, string][] }>();
const emit = defineEmits<{
  pick: [workload: string, event: MouseEvent | KeyboardEvent];
  bring: [workloads: string[], wave: number];
  depend: [workload: string, on: string];
  wave: [wave: number];
  cue: [owner: Owner, id: string];
  rename: [wave: number, name: string];
  add: [wave: number];
  lasso: [workloads: string[], more: boolean];
}>();
const chosen = computed(() => new Set(props.selected));
const bad = computed(() => new Set(props.troubled));
const over = ref(-1);
const opens = { ready: "is ready", "powered-on": "is powered on", "at-once": "" } as const;

// Dependencies of what is selected, drawn from card to card.
const board = useTemplateRef<HTMLElement>("board");
const { threads, extent } = useThreads(board, () => props.dependencies, () => props.plan);
const { lasso, begin: lassoStart, move: lassoMove, end: lassoEnd } = useLasso(board, (names, more) => emit("lasso", names, more));
const full = computed(() => props.plan.waves.length >= MOST_WAVES);

function drop(event: DragEvent, wave: number) {
  over.value = -1;
  const text = event.dataTransfer?.getData("text/plain");
  if (!text) return;
  try {
    emit("bring", JSON.parse(text) as string[], wave);
  } catch {
    // Something from outside was dropped here; it is not ours to take.
  }
}
</script>

<template>
  <div
    ref="board"
    class="board"
    :class="{ drawing: lasso }"
    @pointerdown="lassoStart"
    @pointermove="lassoMove"
    @pointerup="lassoEnd"
    @pointercancel="lasso = null"
  >
    <div
      v-if="lasso"
      class="lasso"
      :style="{ left: `${Math.min(lasso.x1, lasso.x2)}px`, top: `${Math.min(lasso.y1, lasso.y2)}px`, width: `${Math.abs(lasso.x2 - lasso.x1)}px`, height: `${Math.abs(lasso.y2 - lasso.y1)}px` }"
    />
    <svg v-if="threads.length" class="threads" :width="extent.width" :height="extent.height" aria-hidden="true">
      <path v-for="thread in threads" :key="thread" :d="thread" />
    </svg>
    <div class="columns">
      <section v-if="parts.length" class="wave parts" aria-label="Parts that come first">
        <header><span class="roman">I to {{ roman(first) }}</span></header>
        <p class="opens">come first, from other plans</p>
        <p v-for="(name, index) in parts" :key="index" class="part"><span class="roman">{{ roman(index + 1) }}</span> {{ name }}</p>
      </section>
      <section
        v-for="(column, index) in plan.waves"
        :key="index"
        class="wave"
        :class="{ over: over === index, picked: props.wave === index }"
        :aria-label="`Wave ${first + index + 1}, ${column.name}`"
        @dragover.prevent="over = index"
        @dragleave="over = -1"
        @drop.prevent="drop($event, index)"
      >
        <header>
          <button class="roman link" :aria-pressed="props.wave === index" :aria-label="`${roman(first + index + 1)}: Rules of wave ${first + index + 1}`" title="When it opens, what belongs in it, its cues" @click="emit('wave', index)">{{ roman(first + index + 1) }}</button>
          <KeptInput :value="column.name" :aria-label="`Name of wave ${first + index + 1}`" maxlength="80" @done="emit('rename', index, $event)" />
        </header>
        <p class="opens">
          {{ first + index === 0 || column.opens === "at-once" ? "opens at once" : `when ${roman(first + index)} ${opens[column.opens]}` }}<template v-if="column.tag_rule">, takes in <span class="mono">{{ column.tag_rule }}</span></template>
        </p>
        <button v-for="cue in column.cues.filter((one) => one.at === 'before')" :key="cue.id" class="cue" :title="CUE_WORDS[kindOf(cue)]" @click="emit('cue', { kind: 'wave', wave: index }, cue.id)">
          <span aria-hidden="true">{{ CUE_SIGNS[kindOf(cue)] }}</span> {{ cue.title }} <span v-if="cue.kinds.length < 3" class="quiet">({{ list(cue.kinds) }})</span>
        </button>
        <WorkloadCard v-for="member in column.members" :key="member.workload" :member="member" :chosen="chosen.has(member.workload)" :troubled="bad.has(member.workload)" :moving="chosen.has(member.workload) ? selected : [member.workload]" @depend="(waiting, on) => emit('depend', waiting, on)" @click="emit('pick', member.workload, $event)" />
        <button v-for="cue in column.cues.filter((one) => one.at === 'after')" :key="cue.id" class="cue" :title="CUE_WORDS[kindOf(cue)]" @click="emit('cue', { kind: 'wave', wave: index }, cue.id)">
          <span aria-hidden="true">{{ CUE_SIGNS[kindOf(cue)] }}</span> {{ cue.title }} <span v-if="cue.kinds.length < 3" class="quiet">({{ list(cue.kinds) }})</span>
        </button>
        <button class="link add" @click="emit('add', index)">+ add workload</button>
      </section>
      <section
        v-if="!full"
        class="wave new"
        :class="{ over: over === plan.waves.length }"
        aria-label="New wave"
        @dragover.prevent="over = plan.waves.length"
        @dragleave="over = -1"
        @drop.prevent="drop($event, plan.waves.length)"
      >
        <p class="quiet">drop for {{ roman(first + plan.waves.length + 1) }}</p>
      </section>
    </div>
  </div>
</template>

<style scoped>
.board {
  position: relative;
  /* The score below stays within reach of a plan of hundreds. */
  max-height: 72vh;
  overflow: auto;
  padding-bottom: var(--gap-2);
}
.columns {
  display: flex;
  gap: var(--gap-2);
}
.board.drawing {
  user-select: none;
  cursor: crosshair;
}
.lasso {
  position: absolute;
  z-index: 3;
  border: 1px solid var(--brass);
  background: var(--brass-soft);
  opacity: 0.5;
  pointer-events: none;
}
.wave {
  flex: 1 0 146px;
  min-width: 0;
  padding: 0 2px 4px;
  border-radius: var(--radius);
}
.wave.over {
  background: var(--brass-soft);
}
.new {
  flex: 0 0 64px;
  border: 1px dashed var(--rule);
  padding: 8px;
  font-size: var(--text-s);
}
header {
  display: flex;
  gap: 8px;
  align-items: baseline;
  border-bottom: 2px solid var(--ink-1);
  padding-bottom: 3px;
  position: sticky;
  top: 0;
  z-index: 2;
  background: var(--paper);
}
header :deep(.el-input__wrapper) {
  padding: 0;
  box-shadow: none;
  background: transparent;
}
header :deep(input) {
  font-weight: 700;
  color: var(--ink-1);
}
.opens {
  font-size: var(--text-s);
  color: var(--ink-2);
  padding: 2px 0 4px;
}
.threads {
  position: absolute;
  inset: 0;
  pointer-events: none;
  z-index: 1;
}
.threads path {
  fill: none;
  stroke: var(--brass);
  stroke-width: 1.4;
}
.wave.picked {
  background: var(--brass-soft);
}
.parts {
  flex: 0 0 170px;
  border-right: 1px solid var(--rule);
}
.part {
  font-size: var(--text-s);
  padding: 2px 0;
}
.cue {
  display: block;
  width: 100%;
  font: inherit;
  font-size: var(--text-s);
  text-align: left;
  color: var(--brass);
  background: none;
  border: 0;
  border-bottom: 1px dashed var(--brass);
  padding: 0 0 3px;
  margin-bottom: 5px;
  cursor: pointer;
}
.add {
  font-size: var(--text-s);
}
</style>
