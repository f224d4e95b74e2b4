<script setup lang="ts">
import { useQuery } from "@tanstack/vue-query";
import { computed, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { api, take } from "@/api/client";
import { usePlan } from "@/api/queries";
import type { RunKind, RunOptions } from "@/api/types";
import DeclaredNote from "@/features/runs/DeclaredNote.vue";
import KindChoice from "@/features/runs/KindChoice.vue";
import type { LiveChoices } from "@/features/runs/LiveOptions.vue";
import PointChoice from "@/features/runs/PointChoice.vue";
import StartBar from "@/features/runs/StartBar.vue";
import StartChecks from "@/features/runs/StartChecks.vue";
import StartChoices from "@/features/runs/StartChoices.vue";
import { useStartPoints } from "@/features/runs/startPoints";
import PageSkeleton from "@/ui/PageSkeleton.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { chance, clock, count, duration } from "@/ui/format";

const route = useRoute();
const router = useRouter();
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
/** When somebody who declared the outage says that it began: the recovery time counts from there. */
const since = typeof route.query.since === "string" && !Number.isNaN(Date.parse(route.query.since)) ? route.query.since : null;
const choices = ref<LiveChoices>({ close_down: true, go_on: true, decide_within_s: 0, then: "roll-back", at_commit: "nothing", declared_at: since, acknowledged: false, force_after_s: null });
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

const { data: said, error: preflightError } = useQuery({
  queryKey: ["preflight", code, options],
  queryFn: async () => {
    const { kind: of } = options.value;
    return { of, preflight: await take(api.POST("/api/v1/plans/{code}/preflight", { params: { path: { code: code.value } }, body: options.value })) };
  },
  // Which points there are matters only to who chooses among them.
  enabled: computed(() => !takesPoints.value || !!points.value || !!pointsError.value),
  placeholderData: (before) => before,
  // What is in the way may go by itself, as a first point that comes; and what is not may come.
  refetchInterval: (query) => (query.state.data?.preflight.blocking.length ? 3000 : 15_000),
});
/** What was said for other choices stays until theirs comes; what was said of another kind of run is not so. */
const preflight = computed(() => (said.value?.of === kind.value ? said.value.preflight : undefined));
/** Whether it is known what would happen: until then the page keeps its form. */
const begun = computed(() => !!(preflight.value || preflightError.value) && (!takesPoints.value || !!points.value || !!pointsError.value));
watch(preflight, (now) => {
  if (now && pace.value === 0) pace.value = now.practice ? now.usual_pace : 1;
});

const forecast = computed(() => preflight.value?.assessment.forecast);
const reason = ref("");
const abouts: Record<RunKind, string> = { test: "test", planned: "move", disaster: "recover", "re-protect": "protect again" };
watch(kind, () => void router.replace({ query: kind.value === "test" ? {} : { kind: kind.value } }));
</script>

<template>
  <div class="page">
    <ProblemNote v-if="error || (pointsError && takesPoints)" :error="error || pointsError" />
    <template v-if="detail">
      <h1 class="sentence">
        You are about to {{ abouts[kind] }} <template v-if="preflight"><b>{{ count(preflight.workloads, "workload") }}</b> of {{ " " }}</template>
        <RouterLink :to="`/plans/${code}`">{{ detail.plan.name }}</RouterLink>. Nothing starts until you say so at the bottom.
      </h1>
      <DeclaredNote :source="preflight?.source ?? detail.plan.source" />
      <KindChoice v-model="kind" :offered="said?.preflight.kinds" />
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
      <StartBar :key="kind" :code="code" :kind="kind" :options="options" :preflight="preflight" :reason="reason" />
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
@media (max-width: 900px) {
  .three {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
