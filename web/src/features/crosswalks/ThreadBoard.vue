<script setup lang="ts">
// One kind of things: the source on the left, the target on the right, threads between. All rows are of one
// height, so that a thread knows where it begins and ends without measuring the page.
import { computed, nextTick, ref, useTemplateRef, watch } from "vue";
import { ISOLATED, type Kind, TITLES, type Thread } from "@/features/crosswalks/edit";
import { count } from "@/ui/format";

export interface Item {
  name: string;
  said: string;
  more?: string;
  workloads?: number;
  warn?: string;
}

const props = defineProps<{ kind: Kind; left: Item[]; right: Item[]; threads: Thread[]; show?: string }>();
const emit = defineEmits<{ join: [sources: string[], target: string]; unjoin: [sources: string[]] }>();
const HEIGHT = 40;
const selected = ref<string[]>([]);
const leftAt = ref(0);
const rightAt = ref(0);
const dragging = ref<string[]>([]);
const over = ref<string | null>(null);
const leftBox = useTemplateRef<HTMLElement>("leftBox");
const rightBox = useTemplateRef<HTMLElement>("rightBox");

const mapped = computed(() => new Set(props.threads.map((thread) => thread.source)));
const y = (items: Item[], name: string) => items.findIndex((item) => item.name === name) * HEIGHT + HEIGHT / 2;
const drawn = computed(() =>
  props.threads
    .filter((thread) => props.left.some((item) => item.name === thread.source) && props.right.some((item) => item.name === thread.target))
    .map((thread) => {
      const [a, b] = [y(props.left, thread.source), y(props.right, thread.target)];
      return { ...thread, path: `M0 ${a} C 70 ${a}, 90 ${b}, 160 ${b}`, lit: selected.value.includes(thread.source) };
    }),
);
const height = computed(() => Math.max(props.left.length, props.right.length, 1) * HEIGHT);
watch(
  () => props.show,
  async (name) => {
    if (!name) return;
    selected.value = [name];
    leftAt.value = Math.max(props.left.findIndex((item) => item.name === name), 0);
    await nextTick();
    leftBox.value?.focus();
    leftBox.value?.querySelector(`[data-source="${CSS.escape(name)}"]`)?.scrollIntoView({ block: "nearest" });
  },
  { immediate: true },
);

function pick(index: number, event: MouseEvent | KeyboardEvent) {
  const name = props.left[index]?.name;
  if (name === undefined) return;
  if (event.shiftKey && selected.value.length) {
    const from = props.left.findIndex((item) => item.name === selected.value.at(-1));
    const range = props.left.slice(Math.min(from, index), Math.max(from, index) + 1).map((item) => item.name);
    selected.value = [...new Set([...selected.value, ...range])];
  } else if (event.ctrlKey || event.metaKey || event.type === "keydown") {
    selected.value = selected.value.includes(name) ? selected.value.filter((one) => one !== name) : [...selected.value, name];
  } else selected.value = selected.value.length === 1 && selected.value[0] === name ? [] : [name];
  leftAt.value = index;
}
function join(target: string, sources = selected.value) {
  if (sources.length) emit("join", sources, target);
}
function leftKey(event: KeyboardEvent) {
  if (event.key === "ArrowDown") leftAt.value = Math.min(leftAt.value + 1, props.left.length - 1);
  else if (event.key === "ArrowUp") leftAt.value = Math.max(leftAt.value - 1, 0);
  else if (event.key === " ") pick(leftAt.value, event);
  else if (event.key === "Enter" || event.key === "ArrowRight") {
    const here = props.left[leftAt.value]?.name;
    if (!selected.value.length && here !== undefined) selected.value = [here];
    rightBox.value?.focus();
  } else if (event.key === "Delete" || event.key === "Backspace") {
    const here = props.left[leftAt.value]?.name;
    emit("unjoin", selected.value.length ? selected.value : here === undefined ? [] : [here]);
  } else if (event.key === "Escape") selected.value = [];
  else return;
  event.preventDefault();
}
function rightKey(event: KeyboardEvent) {
  if (event.key === "ArrowDown") rightAt.value = Math.min(rightAt.value + 1, props.right.length - 1);
  else if (event.key === "ArrowUp") rightAt.value = Math.max(rightAt.value - 1, 0);
  else if (event.key === "Enter") {
    const target = props.right[rightAt.value];
    if (target) join(target.name);
  } else if (event.key === "Escape" || event.key === "ArrowLeft") leftBox.value?.focus();
  else return;
  event.preventDefault();
}
function drag(name: string, event: DragEvent) {
  dragging.value = selected.value.includes(name) ? selected.value : [name];
  event.dataTransfer?.setData("text/plain", dragging.value.join(" "));
}
function drop(target: string) {
  join(target, dragging.value);
  dragging.value = [];
  over.value = null;
}
</script>

<template>
  <section :aria-label="TITLES[kind]">
    <h2>{{ TITLES[kind] }}</h2>
    <p v-if="!left.length" class="quiet">Nothing of this kind at the source.</p>
    <div v-else class="board">
      <div ref="leftBox" class="side" role="listbox" aria-multiselectable="true" tabindex="0" :aria-label="`${TITLES[kind]} at the source`" @keydown="leftKey">
        <div
          v-for="(item, index) in left"
          :key="item.name"
          role="option"
          class="item"
          draggable="true"
          :data-source="item.name"
          :aria-selected="selected.includes(item.name)"
          :class="{ selected: selected.includes(item.name), at: index === leftAt, missing: !mapped.has(item.name) && item.workloads }"
          @click="pick(index, $event)"
          @dragstart="drag(item.name, $event)"
          @dragend="dragging = []"
        >
          <span class="line"><b class="mono">{{ item.name }}</b> <span class="quiet">{{ item.said }}</span></span>
          <span class="small">
            <template v-if="!mapped.has(item.name) && item.workloads"><b class="brass">▲ not mapped</b>, {{ count(item.workloads, "workload") }}</template>
            <template v-else>{{ item.workloads ? count(item.workloads, "workload") : "unused" }}</template>
            <button v-if="mapped.has(item.name)" class="link out" tabindex="-1" :aria-label="`Unmap ${item.name}`" @click.stop="emit('unjoin', [item.name])">unmap</button>
          </span>
        </div>
      </div>
      <svg :height="height" :style="{ height: `${height}px` }" aria-hidden="true">
        <g>
          <path v-for="thread in drawn" :key="thread.source + thread.side" :d="thread.path" :class="[thread.side, { lit: thread.lit }]" vector-effect="non-scaling-stroke" />
        </g>
      </svg>
      <div ref="rightBox" class="side" role="listbox" tabindex="0" :aria-label="`${TITLES[kind]} at the target`" @keydown="rightKey">
        <div
          v-for="(item, index) in right"
          :key="item.name"
          role="option"
          :aria-selected="false"
          class="item"
          :data-target="item.name === ISOLATED ? 'isolated' : item.name"
          :class="{ at: index === rightAt, over: over === item.name, ready: selected.length, pseudo: item.name === ISOLATED }"
          @click="join(item.name)"
          @dragover.prevent="over = item.name"
          @dragleave="over = null"
          @drop.prevent="drop(item.name)"
        >
          <span class="line"><b v-if="item.name !== ISOLATED" class="mono">{{ item.name }}</b> <span class="quiet">{{ item.said }}</span></span>
          <span class="small"><b v-if="item.warn" class="bad">✕ {{ item.warn }}</b><template v-else>{{ item.more }}</template></span>
        </div>
        <p v-if="!right.length" class="quiet none">The target has none.</p>
      </div>
    </div>
  </section>
</template>

<style scoped>
section {
  margin-top: var(--gap-3);
}
.board {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 160px minmax(0, 1fr);
  margin-top: var(--gap-1);
}
.side:focus-visible .at {
  outline: 2px solid var(--brass);
  outline-offset: -2px;
}
.side:focus-visible {
  outline: none;
}
.item {
  height: 40px;
  padding: 2px 10px;
  border: 1px solid var(--rule-faint);
  border-top-color: transparent;
  background: var(--sheet);
  cursor: pointer;
  line-height: 18px;
  overflow: hidden;
}
.item:first-child {
  border-top-color: var(--rule-faint);
}
.line,
.small {
  display: block;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
.small {
  color: var(--ink-2);
}
.missing {
  border-left: 4px double var(--brass);
}
.selected {
  background: var(--brass-soft);
}
.ready:hover,
.over {
  background: var(--brass-soft);
}
.item.pseudo {
  border-style: dashed;
  border-color: var(--test);
}
.brass {
  color: var(--brass);
}
.out {
  float: right;
  visibility: hidden;
}
.item:hover .out,
.selected .out {
  visibility: visible;
}
svg {
  width: 160px;
  overflow: visible;
}
path {
  fill: none;
  stroke: var(--ink-2);
  stroke-width: 1.5;
}
path.test {
  stroke: var(--test);
  stroke-dasharray: 5 4;
}
path.lit {
  stroke-width: 3;
}
path.live.lit {
  stroke: var(--brass);
}
.none {
  padding: var(--gap-2);
}
</style>
