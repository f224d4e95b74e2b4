<script setup lang="ts">
import { useQuery } from "@tanstack/vue-query";
import { computed, ref, watch } from "vue";
import { api, take } from "@/api/client";
import type { EventView, ScoreStep, TrapView } from "@/api/types";
import ProblemNote from "@/ui/ProblemNote.vue";
import { clock, moment } from "@/ui/format";

const props = defineProps<{ steps: ScoreStep[]; events: EventView[]; run: number; traps: TrapView[] }>();
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
// What was asked of the site, word for word, of the step that is opened.
const told = ref("");
const { data: asked, error } = useQuery({
  queryKey: ["run-step", computed(() => props.run), told, computed(() => log.value.length)],
  queryFn: () => take(api.GET("/api/v1/runs/{id}/step", { params: { path: { id: props.run }, query: { step: told.value } } })),
  enabled: computed(() => told.value !== ""),
});
watch(open, () => (told.value = ""));
const json = (value: unknown) => JSON.stringify(value, null, 1);
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
    <p v-for="trap in traps" :key="trap.id" class="trap">⚑ {{ trap.text }} <span class="quiet">{{ trap.by }}, {{ moment(trap.at) }}</span></p>
    <h2>Steps</h2>
    <ul class="steps">
      <li v-for="one in row" :key="one.id" :class="one.status">
        <span aria-hidden="true">{{ shapes[one.status] }}</span>
        <div>
          {{ one.title }} <b>{{ words[one.status] }}</b
          ><template v-if="one.attempt > 1">, try {{ one.attempt }}</template>
          <p v-if="one.reason" class="quiet">{{ one.reason }}</p>
          <button v-if="one.site" class="link" :aria-expanded="told === one.id" @click="told = told === one.id ? '' : one.id">what was asked</button>
          <div v-if="told === one.id && asked" class="asked">
            <p><b class="mono">{{ asked.verb }}</b> of {{ asked.subject }} at {{ asked.site }}</p>
            <pre>{{ json(asked.args) }}</pre>
            <template v-for="attempt in asked.attempts" :key="attempt.number">
              <p>Try {{ attempt.number }} at {{ clock(attempt.asked_s) }}: {{ attempt.outcome || "no answer yet" }}{{ attempt.reason ? `. ${attempt.reason}` : "" }}</p>
              <pre v-if="Object.keys(attempt.result).length">{{ json(attempt.result) }}</pre>
            </template>
            <p v-if="!asked.attempts.length" class="quiet">It was not asked for yet.</p>
          </div>
          <ProblemNote v-if="told === one.id && error" :error="error" />
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
.trap {
  border-left: 3px solid var(--brass);
  padding-left: 8px;
  margin-bottom: 6px;
}
.steps li {
  display: grid;
  grid-template-columns: 20px 1fr auto;
  gap: 4px;
  padding: 4px 0;
  border-bottom: 1px solid var(--rule-faint);
}
.asked pre {
  max-height: 180px;
  overflow: auto;
  margin: 4px 0;
  padding: 6px;
  background: var(--rule-faint);
  font-family: var(--mono);
  font-size: var(--text-s);
  white-space: pre-wrap;
  overflow-wrap: anywhere;
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
