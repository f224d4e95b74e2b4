<script setup lang="ts">
// One workload on the board: dragged to a wave, or by its handle onto the one that it waits for.
import { ref } from "vue";
import type { Member } from "@/api/types";
import { CUE_SIGNS, kindOf } from "@/features/plans/draft";
import { clock, list } from "@/ui/format";

/** `moving`: what goes along when this card is dragged. */
const props = defineProps<{ member: Member; chosen: boolean; troubled: boolean; moving: string[] }>();
const emit = defineEmits<{ depend: [workload: string, on: string] }>();
const WAITING = "application/x-maestoso-waiting";
const onto = ref(false);

function waitStart(event: DragEvent) {
  event.dataTransfer?.setData(WAITING, props.member.workload);
  if (event.dataTransfer) event.dataTransfer.effectAllowed = "link";
}
function waitOver(event: DragEvent) {
  if (!event.dataTransfer?.types.includes(WAITING)) return;
  event.preventDefault();
  event.stopPropagation();
  onto.value = true;
}
function waitDrop(event: DragEvent) {
  const waiting = event.dataTransfer?.getData(WAITING);
  onto.value = false;
  if (!waiting) return;
  event.preventDefault();
  event.stopPropagation();
  if (waiting !== props.member.workload) emit("depend", waiting, props.member.workload);
}

function dragStart(event: DragEvent) {
  event.dataTransfer?.setData("text/plain", JSON.stringify(props.moving));
  if (event.dataTransfer) event.dataTransfer.effectAllowed = "move";
}
</script>

<template>
  <button
    class="card"
    draggable="true"
    :data-workload="member.workload"
    :aria-pressed="chosen"
    :class="{ chosen, off: !member.power_on, troubled, onto }"
    @dragstart="dragStart"
    @dragover="waitOver"
    @dragleave="onto = false"
    @drop="waitDrop"
  >
    <span><span v-if="troubled" class="bad" title="A finding is about this workload">▲ </span>{{ member.workload }}</span>
    <span class="mono">
      <template v-if="!member.power_on">left off</template>
      <template v-else-if="member.delay_s">delay {{ clock(member.delay_s) }}</template>
    </span>
    <small v-if="member.depends_on.length">after {{ list(member.depends_on) }}</small>
    <small v-for="cue in member.cues" :key="cue.id"><span class="sign" aria-hidden="true">{{ CUE_SIGNS[kindOf(cue)] }}</span> {{ cue.at }}: {{ cue.title }}</small>
    <span class="handle" draggable="true" title="Drag onto the workload that this one waits for" aria-hidden="true" @dragstart.stop="waitStart">⤳</span>
  </button>
</template>

<style scoped>
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
</style>
