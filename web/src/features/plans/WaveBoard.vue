<script setup lang="ts">
// Columns are waves, cards are workloads. One or several cards are dragged, or moved with the arrow keys.
import { ref } from "vue";
import type { Plan } from "@/api/types";
import { clock, list, roman } from "@/ui/format";

const props = defineProps<{ plan: Plan; selected: string[]; troubled: string[] }>();
const emit = defineEmits<{
  pick: [workload: string, event: MouseEvent | KeyboardEvent];
  move: [workloads: string[], wave: number];
  rename: [wave: number, name: string];
  remove: [wave: number];
  add: [wave: number];
}>();
const over = ref(-1);
const opens = { ready: "is ready", "powered-on": "is powered on", "at-once": "" } as const;

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
    emit("move", JSON.parse(text) as string[], wave);
  } catch {
    // Something from outside was dropped here; it is not ours to take.
  }
}
</script>

<template>
  <div class="board">
    <section
      v-for="(wave, index) in plan.waves"
      :key="index"
      class="wave"
      :class="{ over: over === index }"
      :aria-label="`Wave ${index + 1}, ${wave.name}`"
      @dragover.prevent="over = index"
      @dragleave="over = -1"
      @drop.prevent="drop($event, index)"
    >
      <header>
        <span class="roman">{{ roman(index + 1) }}</span>
        <input
          :value="wave.name"
          :aria-label="`Name of wave ${index + 1}`"
          maxlength="40"
          @change="emit('rename', index, ($event.target as HTMLInputElement).value)"
        />
        <button v-if="!wave.members.length && plan.waves.length > 1" class="link" title="Take this empty wave out" @click="emit('remove', index)">✕</button>
      </header>
      <p class="opens">
        {{ index === 0 || wave.opens === "at-once" ? "opens at once" : `when ${roman(index)} ${opens[wave.opens]}` }}
      </p>
      <p v-for="hold in wave.holds" :key="hold.id" class="hold" :title="hold.instruction">
        <span aria-hidden="true">◠</span> hold: {{ hold.title }} <span class="quiet">({{ list(hold.kinds) }})</span>
      </p>
      <button
        v-for="member in wave.members"
        :key="member.workload"
        class="card"
        draggable="true"
        :data-workload="member.workload"
        :aria-pressed="selected.includes(member.workload)"
        :class="{ chosen: selected.includes(member.workload), off: !member.power_on, troubled: troubled.includes(member.workload) }"
        @dragstart="dragStart($event, member.workload)"
        @click="emit('pick', member.workload, $event)"
      >
        <span><span v-if="troubled.includes(member.workload)" class="bad" title="A finding is about this workload">▲ </span>{{ member.workload }}</span>
        <span class="mono">
          <template v-if="!member.power_on">left off</template>
          <template v-else-if="member.delay_s">delay {{ clock(member.delay_s) }}</template>
        </span>
        <small v-if="member.depends_on.length">after {{ list(member.depends_on) }}</small>
      </button>
      <button class="link add" @click="emit('add', index)">+ add workload</button>
    </section>
    <section
      class="wave new"
      :class="{ over: over === plan.waves.length }"
      aria-label="New wave"
      @dragover.prevent="over = plan.waves.length"
      @dragleave="over = -1"
      @drop.prevent="drop($event, plan.waves.length)"
    >
      <p class="quiet">drop for {{ roman(plan.waves.length + 1) }}</p>
    </section>
  </div>
</template>

<style scoped>
.board {
  display: flex;
  gap: var(--gap-2);
  overflow-x: auto;
  padding-bottom: var(--gap-2);
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
}
header input {
  font: inherit;
  font-weight: 700;
  border: 0;
  background: transparent;
  color: var(--ink-1);
  width: 100%;
  min-width: 0;
  padding: 0;
}
.opens {
  font-size: var(--text-s);
  color: var(--ink-2);
  padding: 2px 0 4px;
}
.hold {
  font-size: var(--text-s);
  color: var(--brass);
  border-bottom: 1px dashed var(--brass);
  padding-bottom: 3px;
  margin-bottom: 5px;
}
.card {
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
