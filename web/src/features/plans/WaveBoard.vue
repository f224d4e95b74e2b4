<script setup lang="ts">
// Columns are waves, cards are workloads. One or several cards are dragged, or moved with the arrow keys; a
// rectangle drawn from empty ground chooses all that it touches.
import { computed, nextTick, onMounted, onScopeDispose, ref, useTemplateRef, watch } from "vue";
import type { Plan } from "@/api/types";
import { CUE_SIGNS, CUE_WORDS, kindOf, MOST_WAVES, type Owner } from "@/features/plans/draft";
import KeptInput from "@/ui/KeptInput.vue";
import { clock, list, roman } from "@/ui/format";

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
const onto = ref("");
const opens = { ready: "is ready", "powered-on": "is powered on", "at-once": "" } as const;
const WAITING = "application/x-maestoso-waiting";

// Dependencies of what is selected, drawn from card to card.
const board = useTemplateRef<HTMLElement>("board");
const threads = ref<string[]>([]);
const extent = ref({ width: 0, height: 0 });
async function draw() {
  await nextTick();
  const ground = board.value;
  if (!ground) return;
  const origin = ground.getBoundingClientRect();
  const card = (name: string) => ground.querySelector(`[data-workload="${CSS.escape(name)}"]`)?.getBoundingClientRect();
  extent.value = { width: ground.scrollWidth, height: ground.scrollHeight };
  threads.value = props.dependencies.flatMap(([from, to]) => {
    const [a, b] = [card(from), card(to)];
    if (!a || !b) return [];
    const [dx, dy] = [ground.scrollLeft - origin.left, ground.scrollTop - origin.top];
    const [x1, y1, y2] = [a.right + dx, a.top + a.height / 2 + dy, b.top + b.height / 2 + dy];
    // In one wave the thread bends around the right edge, between waves it crosses the gap.
    const same = Math.abs(a.left - b.left) < 4;
    const x2 = (same ? b.right : b.left) + dx;
    return [`M${x1} ${y1} C${x1 + 12} ${y1} ${x2 + (same ? 12 : -12)} ${y2} ${x2} ${y2}`];
  });
}
watch(() => [props.dependencies, props.plan], draw, { immediate: true, deep: false });
const sizes = new ResizeObserver(() => void draw());
onMounted(() => board.value && sizes.observe(board.value));
onScopeDispose(() => sizes.disconnect());

// The lasso, in the board's own coordinates, so that it stays where it is when the board is scrolled.
const LEAST_DRAWN = 5;
const lasso = ref<{ x1: number; y1: number; x2: number; y2: number } | null>(null);
function onBoard(event: PointerEvent): [number, number] {
  const ground = board.value;
  if (!ground) return [0, 0];
  const origin = ground.getBoundingClientRect();
  return [event.clientX - origin.left + ground.scrollLeft, event.clientY - origin.top + ground.scrollTop];
}
function lassoStart(event: PointerEvent) {
  const ground = board.value;
  if (!ground || event.button !== 0 || (event.target as Element).closest("button, input, a")) return;
  const [x, y] = onBoard(event);
  const onScrollBar = x - ground.scrollLeft > ground.clientWidth || y - ground.scrollTop > ground.clientHeight;
  if (onScrollBar) return;
  lasso.value = { x1: x, y1: y, x2: x, y2: y };
  ground.setPointerCapture(event.pointerId);
}
function lassoMove(event: PointerEvent) {
  if (lasso.value) [lasso.value.x2, lasso.value.y2] = onBoard(event);
}
function lassoEnd(event: PointerEvent) {
  const [one, ground] = [lasso.value, board.value];
  lasso.value = null;
  if (!one || !ground || Math.max(Math.abs(one.x2 - one.x1), Math.abs(one.y2 - one.y1)) < LEAST_DRAWN) return;
  const origin = ground.getBoundingClientRect();
  const [dx, dy] = [ground.scrollLeft - origin.left, ground.scrollTop - origin.top];
  const touched = [...ground.querySelectorAll<HTMLElement>("[data-workload]")].filter((card) => {
    const at = card.getBoundingClientRect();
    const across = at.left + dx < Math.max(one.x1, one.x2) && at.right + dx > Math.min(one.x1, one.x2);
    return across && at.top + dy < Math.max(one.y1, one.y2) && at.bottom + dy > Math.min(one.y1, one.y2);
  });
  emit("lasso", touched.map((card) => card.dataset.workload ?? ""), event.shiftKey || event.ctrlKey || event.metaKey);
}
const full = computed(() => props.plan.waves.length >= MOST_WAVES);

function waitStart(event: DragEvent, workload: string) {
  event.dataTransfer?.setData(WAITING, workload);
  if (event.dataTransfer) event.dataTransfer.effectAllowed = "link";
}
function waitOver(event: DragEvent, workload: string) {
  if (!event.dataTransfer?.types.includes(WAITING)) return;
  event.preventDefault();
  event.stopPropagation();
  onto.value = workload;
}
function waitDrop(event: DragEvent, workload: string) {
  const waiting = event.dataTransfer?.getData(WAITING);
  onto.value = "";
  if (!waiting) return;
  event.preventDefault();
  event.stopPropagation();
  if (waiting !== workload) emit("depend", waiting, workload);
}

function dragStart(event: DragEvent, workload: string) {
  const moving = props.selected.includes(workload) ? props.selected : [workload];
  event.dataTransfer?.setData("text/plain", JSON.stringify(moving));
  if (event.dataTransfer) event.dataTransfer.effectAllowed = "move";
}

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
        <button
          v-for="member in column.members"
          :key="member.workload"
          class="card"
          draggable="true"
          :data-workload="member.workload"
          :aria-pressed="chosen.has(member.workload)"
          :class="{ chosen: chosen.has(member.workload), off: !member.power_on, troubled: bad.has(member.workload), onto: onto === member.workload }"
          @dragstart="dragStart($event, member.workload)"
          @dragover="waitOver($event, member.workload)"
          @dragleave="onto = ''"
          @drop="waitDrop($event, member.workload)"
          @click="emit('pick', member.workload, $event)"
        >
          <span><span v-if="bad.has(member.workload)" class="bad" title="A finding is about this workload">▲ </span>{{ member.workload }}</span>
          <span class="mono">
            <template v-if="!member.power_on">left off</template>
            <template v-else-if="member.delay_s">delay {{ clock(member.delay_s) }}</template>
          </span>
          <small v-if="member.depends_on.length">after {{ list(member.depends_on) }}</small>
          <small v-for="cue in member.cues" :key="cue.id"><span class="sign" aria-hidden="true">{{ CUE_SIGNS[kindOf(cue)] }}</span> {{ cue.at }}: {{ cue.title }}</small>
          <span class="handle" draggable="true" title="Drag onto the workload that this one waits for" aria-hidden="true" @dragstart.stop="waitStart($event, member.workload)">⤳</span>
        </button>
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
.sign {
  color: var(--brass);
}
.handle {
  position: absolute;
  right: 3px;
  bottom: 0;
  color: var(--ink-2);
  cursor: crosshair;
  opacity: 0;
}
.card:hover .handle,
.card:focus-visible .handle {
  opacity: 1;
}
.card.onto {
  outline: 2px dashed var(--brass);
}
.card {
  position: relative;
  display: flex;
  flex-wrap: wrap;
  justify-content: space-between;
  width: 100%;
  font: inherit;
  text-align: left;
  padding: 4px 9px;
  margin-bottom: 5px;
  background: var(--sheet);
  color: var(--ink-1);
  border: 1px solid var(--rule);
  border-radius: var(--radius);
  cursor: grab;
  content-visibility: auto;
  contain-intrinsic-size: auto 34px;
}
.card .mono,
.card small {
  color: var(--ink-2);
  font-size: var(--text-s);
}
.card small {
  width: 100%;
}
.card.chosen {
  background: var(--brass-soft);
  border-color: var(--brass);
}
.card.off {
  opacity: 0.65;
  border-style: dashed;
}
.card.troubled {
  border-color: var(--disaster);
}
.add {
  font-size: var(--text-s);
}
</style>
