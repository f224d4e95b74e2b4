<script setup lang="ts">
// The draft played in virtual time, with something going wrong if one likes. Nothing is touched.
import { computed, onMounted, ref, shallowRef, watch } from "vue";
import { api, take } from "@/api/client";
import { LATER, useJob } from "@/api/job";
import type { FaultKind, Plan, RehearsalView } from "@/api/types";
import JobProgress from "@/ui/JobProgress.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { count, duration } from "@/ui/format";
import ScoreView from "@/ui/score/ScoreView.vue";

const props = defineProps<{ plan: Plan }>();
const open = defineModel<boolean>({ required: true });
const FAULTS: [NonNullable<FaultKind>, string, boolean][] = [
  ["none", "Nothing goes wrong", false],
  ["boot-hangs", "The first boot hangs, of", true],
  ["never-boots", "No boot ever ends, of", true],
  ["boot-slow", "Power is slow, of", true],
  ["clone-fails", "The first clone fails, of", true],
  ["service-silent", "A service answers only at the second try, of", true],
  ["script-fails", "The first script fails, of", true],
  ["site-slow", "The whole site is three times as slow", false],
  ["sandbox-leaks", "A sandbox has a way to production", false],
];
const fault = ref<NonNullable<FaultKind>>("none");
const made = shallowRef<RehearsalView | null>(null);
const wanted = useJob();
const members = computed(() => props.plan.waves.flatMap((wave) => wave.members.filter((one) => one.power_on).map((one) => one.workload)));
const subject = ref(members.value[0] ?? "");
const wants = computed(() => FAULTS.find(([kind]) => kind === fault.value)?.[2] ?? false);
// It is made when it is opened.
onMounted(rehearse);
watch([fault, subject], () => open.value && rehearse());
async function rehearse() {
  const body = { plan: props.plan, fault: fault.value, subject: wants.value ? subject.value : "" };
  made.value = (await wanted.made<RehearsalView>(() => take(api.POST("/api/v1/plans/{code}/rehearsal", { params: { path: { code: props.plan.code } }, headers: LATER, body })))) ?? (wanted.busy.value ? made.value : null);
}
</script>

<template>
  <el-dialog v-model="open" title="Rehearsal in virtual time" width="min(980px, 94vw)" top="5vh">
    <p class="choose">
      <el-select v-model="fault" class="entry" aria-label="What goes wrong" filterable default-first-option><el-option v-for="[kind, words] in FAULTS" :key="kind" :value="kind" :label="`${words}`" /></el-select>
      <el-select v-if="wants" v-model="subject" class="entry" aria-label="Of which workload" filterable default-first-option><el-option v-for="one in members" :key="one" :value="one" :label="`${one}`" /></el-select>
      <JobProgress v-if="wanted.busy.value" :job="wanted.job.value" @cancel="wanted.stop" />
      <span v-else class="quiet">The engine's own rules and a copy of {{ plan.target }} as the records know it; people answer at once. Nothing is touched.</span>
    </p>
    <ProblemNote v-if="wanted.problem.value" :error="wanted.problem.value" />
    <template v-if="made">
      <p class="sentence small" data-testid="rehearsed">{{ made.sentence }}</p>
      <p class="under">
        It ended after {{ duration(made.ended_s) }}, {{ duration(made.people_s) }} of them waiting for people; verdict {{ made.outcome || "none" }}.
        {{ made.remains.length ? `Left behind: ${made.remains.join(", ")}.` : "Nothing of it was left behind." }}
      </p>
      <ScoreView :steps="made.steps" :waves="made.waves" :objective="made.objective_s" :now="made.ended_s" ended max-height="340px" />
      <template v-if="made.failures.length">
        <h2>{{ count(made.failures.length, "step") }} failed on the way</h2>
        <ul><li v-for="(one, index) in made.failures.slice(0, 12)" :key="index">{{ one }}</li></ul>
      </template>
      <details>
        <summary>Everything that happened, {{ count(made.log.length, "event") }}</summary>
        <ol class="log"><li v-for="(one, index) in made.log" :key="index">{{ one }}</li></ol>
      </details>
    </template>
  </el-dialog>
</template>

<style scoped>
.choose {
  display: flex;
  gap: var(--gap-3);
  align-items: center;
}
.small {
  font-size: 18px;
  margin-top: var(--gap-2);
}
h2 {
  margin: var(--gap-3) 0 var(--gap-1);
}
details {
  margin-top: var(--gap-3);
}
.log {
  max-height: 240px;
  overflow: auto;
  font-size: var(--text-s);
}
</style>
