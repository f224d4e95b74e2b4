<script setup lang="ts">
import { computed } from "vue";
import type { EventView, ScoreStep } from "@/api/types";
import { clock, moment } from "@/ui/format";

const props = defineProps<{ steps: ScoreStep[]; events: EventView[] }>();
const open = defineModel<string>({ required: true });

const step = computed(() => props.steps.find((one) => one.id === open.value));
// The drawer shows the whole row: what was done for this workload, or for the sandbox.
const row = computed(() => {
  const chosen = step.value;
  if (!chosen) return [];
  return props.steps
    .filter((one) => (chosen.workload ? one.workload === chosen.workload : one.id === chosen.id))
    .sort((a, b) => (a.start_s ?? a.expected_start_s) - (b.start_s ?? b.expected_start_s));
});
const log = computed(() => {
  const ids = new Set(row.value.map((one) => one.id));
  return props.events.filter((event) => ids.has(event.step));
});
const shapes: Record<string, string> = {
  done: "✓",
  failed: "✕",
  skipped: "⤼",
  cancelled: "–",
  asked: "◔",
  person: "◠",
  waiting: "○",
};
const words: Record<string, string> = {
  done: "done",
  failed: "failed",
  skipped: "skipped",
  cancelled: "called off",
  asked: "under way",
  person: "waits for a person",
  waiting: "waits",
};
</script>

<template>
  <el-drawer :model-value="!!step" :title="step?.workload ?? step?.title ?? ''" size="min(460px, 100%)" @close="open = ''">
    <h2>Steps</h2>
    <ul class="steps">
      <li v-for="one in row" :key="one.id" :class="one.status">
        <span aria-hidden="true">{{ shapes[one.status] }}</span>
        <div>
          {{ one.title }} <b>{{ words[one.status] }}</b
          ><template v-if="one.attempt > 1">, try {{ one.attempt }}</template>
          <p v-if="one.reason" class="quiet">{{ one.reason }}</p>
        </div>
        <span class="mono quiet">
          <template v-if="one.start_s !== null">{{ clock(one.start_s) }}<template v-if="one.finish_s !== null">–{{ clock(one.finish_s) }}</template></template>
          <template v-else>~{{ clock(one.expected_start_s) }}</template>
        </span>
      </li>
    </ul>
    <h2>Log</h2>
    <ol class="log">
      <li v-for="event in log" :key="event.seq">
        <span class="mono quiet" :title="moment(event.at, true)">{{ clock(event.run_s) }}</span> {{ event.sentence }}
      </li>
      <li v-if="!log.length" class="quiet">Nothing happened to it yet.</li>
    </ol>
  </el-drawer>
</template>

<style scoped>
.steps li {
  display: grid;
  grid-template-columns: 20px 1fr auto;
  gap: 4px;
  padding: 4px 0;
  border-bottom: 1px solid var(--rule-faint);
}
.failed {
  color: var(--disaster);
}
h2 {
  margin: var(--gap-3) 0 var(--gap-1);
}
.log li {
  padding: 3px 0;
  display: grid;
  grid-template-columns: 72px 1fr;
}
</style>
