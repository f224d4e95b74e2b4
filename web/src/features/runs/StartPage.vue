<script setup lang="ts">
import { useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { api, take } from "@/api/client";
import { usePlan } from "@/api/queries";
import type { RunKind, RunOptions } from "@/api/types";
import KindChoice from "@/features/runs/KindChoice.vue";
import type { LiveChoices } from "@/features/runs/LiveOptions.vue";
import PointChoice from "@/features/runs/PointChoice.vue";
import StartChecks from "@/features/runs/StartChecks.vue";
import StartChoices from "@/features/runs/StartChoices.vue";
import { useStartPoints } from "@/features/runs/startPoints";
import PageSkeleton from "@/ui/PageSkeleton.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { chance, clock, count, duration } from "@/ui/format";
import { useKeys } from "@/ui/keys";
import { mayNot } from "@/ui/may";

const route = useRoute();
const router = useRouter();
const client = useQueryClient();
const code = computed(() => String(route.params.code));
const { data: detail, error } = usePlan(code);

const kind = ref<RunKind>(asKind(route.query.kind));
function asKind(text: unknown): RunKind {
  return text === "planned" || text === "disaster" || text === "re-protect" ? text : "test";
}
const syncFirst = ref(false);
const takesPoints = computed(() => kind.value === "disaster" || (kind.value === "test" && !syncFirst.value));
const from = useStartPoints(code, takesPoints);
const { points, error: pointsError, worst } = from;
const live = computed(() => kind.value === "planned" || kind.value === "disaster");
const notify = ref<string[]>([]);
const probe = ref<string[]>([]);
const cleanUp = ref(true);
const hours = ref(4);
const pace = ref(0);
const choices = ref<LiveChoices>({ close_down: true, go_on: true, decide_within_s: 0, then: "roll-back", at_commit: "nothing", declared_at: null, acknowledged: false, force_after_s: null });
const options = computed<RunOptions>(() => ({
  kind: kind.value,
  points: takesPoints.value ? from.ids.value : {},
  apart: takesPoints.value ? from.workloads.value : {},
  tell: notify.value,
  probe: kind.value === "test" ? probe.value.map((one) => JSON.parse(one)) : [],
  sync_first: kind.value === "planned" || (kind.value === "test" && syncFirst.value),
  pace: pace.value || 1,
  cleanup_after_s: kind.value === "test" && cleanUp.value ? Math.round(hours.value * 3600) : 0,
  ...(live.value ? choices.value : {}),
  go_on: kind.value === "disaster" && choices.value.go_on,
}));

const { data: preflight, error: preflightError } = useQuery({
  queryKey: ["preflight", code, options],
  queryFn: () =>
    take(api.POST("/api/v1/plans/{code}/preflight", { params: { path: { code: code.value } }, body: options.value })),
  // Which points there are matters only to who chooses among them.
  enabled: computed(() => !takesPoints.value || !!points.value || !!pointsError.value),
  placeholderData: (before) => before,
  // What is in the way may go by itself, as a first point that comes; and what is not may come.
  refetchInterval: (query) => (query.state.data?.blocking.length ? 3000 : 15_000),
});
/** Whether it is known what would happen: until then the page keeps its form. */
const begun = computed(() => !!(preflight.value || preflightError.value) && (!takesPoints.value || !!points.value || !!pointsError.value));
watch(preflight, (now) => {
  if (now && pace.value === 0) pace.value = now.practice ? now.usual_pace : 1;
});

const forecast = computed(() => preflight.value?.assessment.forecast);
const reason = ref("");
const confirm = ref("");
const startError = ref<unknown>(null);
const starting = ref(false);
const needed = computed(() => (kind.value === "test" ? "run-tests" : "run-live"));
const confirmed = computed(() => !live.value || confirm.value.trim() === code.value);
const mayStart = computed(() => !starting.value && !!preflight.value && !preflight.value.blocking.length && confirmed.value);
const inShort: Record<RunKind, string> = {
  test: "Production is not touched.",
  planned: "Services stop until they are up at the other site; no data is lost.",
  disaster: "Production comes up at the other site for real; what is newer than the chosen points is lost.",
  "re-protect": "Services go on; only what differs is copied.",
};
const presses: Record<RunKind, string> = { test: "Start the test", planned: "Start the planned failover", disaster: "Start the disaster failover", "re-protect": "Start the re-protect" };
const abouts: Record<RunKind, string> = { test: "test", planned: "move", disaster: "recover", "re-protect": "protect again" };

// One key for each choice of a kind: pressing twice starts one run.
let key = crypto.randomUUID();
watch(kind, () => {
  key = crypto.randomUUID();
  confirm.value = "";
  startError.value = null;
  void router.replace({ query: kind.value === "test" ? {} : { kind: kind.value } });
});
async function start() {
  if (!mayStart.value) return;
  starting.value = true;
  startError.value = null;
  try {
    const run = await take(
      api.POST("/api/v1/runs", {
        params: { header: { "Idempotency-Key": key } },
        body: { plan: code.value, confirm: confirm.value.trim(), reason: reason.value.trim(), options: options.value },
      }),
    );
    void client.invalidateQueries();
    await router.push(`/runs/${run.id}`);
  } catch (problem) {
    startError.value = problem;
  } finally {
    starting.value = false;
  }
}
useKeys([{ keys: ["Ctrl+Enter"], label: "Start it", run: () => void start() }]);
</script>

<template>
  <div class="page">
    <ProblemNote v-if="error || (pointsError && takesPoints)" :error="error || pointsError" />
    <template v-if="detail">
      <h1 class="sentence">
        You are about to {{ abouts[kind] }} <template v-if="preflight"><b>{{ count(preflight.workloads, "workload") }}</b> of {{ " " }}</template>
        <RouterLink :to="`/plans/${code}`">{{ detail.plan.name }}</RouterLink>. Nothing starts until you say so at the bottom.
      </h1>
      <KindChoice v-model="kind" :offered="preflight?.kinds" />
      <PageSkeleton v-if="!begun" :heading="0" :blocks="[84, 300, 240]" />
      <template v-else>
        <section :class="['consequences', `of-${kind}`]">
          <p v-for="sentence in preflight?.consequences ?? []" :key="sentence">{{ sentence }}</p>
        </section>
        <PointChoice v-if="kind === 'test' || kind === 'disaster'" :from="from" :takes="takesPoints" />
        <div class="three">
          <StartChecks v-model:reason="reason" :code="code" :preflight="preflight" :error="preflightError" :live="live" />
          <StartChoices v-model:sync-first="syncFirst" v-model:clean-up="cleanUp" v-model:hours="hours" v-model:probe="probe" v-model:live="choices" v-model:notify="notify" v-model:pace="pace" :kind="kind" :preflight="preflight" />
          <section class="go">
            <h2>Forecast</h2>
            <template v-if="forecast">
              <p class="clock mono">{{ clock(forecast.p50_s, true) }}</p>
              <p>
                {{ duration(forecast.p10_s) }} to {{ duration(forecast.p95_s) }}, {{ chance(forecast.chance) }} inside
                {{ duration(forecast.objective_s) }}
              </p>
              <p v-if="takesPoints && worst !== null">{{ kind === "test" ? "The copies are" : "Lost work:" }} {{ duration(worst) }} {{ kind === "test" ? "old at most" : "at most" }}.</p>
              <p v-else-if="kind === 'planned'">No work is lost.</p>
            </template>
            <p v-else-if="kind === 're-protect'" class="quiet">It takes as long as the differences need on the link.</p>
          </section>
        </div>
      </template>
      <!-- What it will do, and the button, stay in sight however long the page is. -->
      <section :class="['bar', `of-${kind}`]" aria-label="Start" data-over>
        <p v-if="mayNot(needed)" class="bad what">{{ mayNot(needed) }}</p>
        <p v-else-if="preflight?.blocking.length" class="bad what">It cannot start now: {{ preflight.blocking[0]?.sentence }}</p>
        <p v-else class="what">{{ inShort[kind] }}</p>
        <label v-if="live" class="confirm">
          Type <b class="mono">{{ code }}</b> to confirm
          <el-input v-model="confirm" :placeholder="code" aria-label="The plan's code, to confirm" maxlength="12" />
        </label>
        <el-button v-may="needed" :class="['btn', kind]" :disabled="!mayStart" @click="start">{{ presses[kind] }}</el-button>
        <kbd>Ctrl ↵</kbd>
        <ProblemNote v-if="startError" :error="startError" />
      </section>
    </template>
  </div>
</template>

<style scoped>
h1 {
  min-height: 59px;
}
.consequences {
  border: 2px solid var(--own);
  border-radius: var(--radius);
  background: var(--own-soft);
  padding: var(--gap-2) var(--gap-4);
  margin: var(--gap-3) 0;
}
.consequences.of-test {
  border-style: dashed;
}
.consequences.of-disaster {
  border: 4px double var(--own);
}
h2 {
  margin: var(--gap-2) 0;
  color: var(--ink-1);
}
.three {
  display: grid;
  grid-template-columns: minmax(0, 1.2fr) minmax(0, 1fr) minmax(0, 0.8fr);
  gap: var(--gap-5);
  margin-top: var(--gap-2);
}
.go {
  border-left: 1px solid var(--rule);
  padding-left: var(--gap-5);
}
.clock {
  font-size: var(--text-clock);
  line-height: 1.1;
}
.bar {
  position: sticky;
  bottom: 0;
  z-index: 1;
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: var(--gap-2) var(--gap-3);
  margin-top: var(--gap-4);
  padding: var(--gap-2) 0;
  border-top: 2px solid var(--own);
  background: var(--paper);
}
.bar .what {
  flex: 1 1 300px;
  margin: 0;
}
.bar .confirm {
  display: flex;
  margin: 0;
  align-items: center;
  gap: var(--gap-2);
}
.bar .confirm .el-input {
  width: 110px;
}
@media (max-width: 900px) {
  .three {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
