<script setup lang="ts">
import { useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { api, take } from "@/api/client";
import { usePlan } from "@/api/queries";
import type { RecoveryPoint, TestOptions } from "@/api/types";
import PointTimeline from "@/ui/PointTimeline.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { chance, clock, count, duration, moment } from "@/ui/format";
import { useKeys } from "@/ui/keys";

const route = useRoute();
const router = useRouter();
const client = useQueryClient();
const code = computed(() => String(route.params.code));
const { data: detail, error } = usePlan(code);
const { data: points, error: pointsError } = useQuery({
  queryKey: ["points", code],
  queryFn: () => take(api.GET("/api/v1/plans/{code}/points", { params: { path: { code: code.value } } })),
  refetchOnWindowFocus: false,
  staleTime: Infinity,
});

const picked = ref<number | null>(null);
const syncFirst = ref(false);
const cleanUp = ref(true);
const hours = ref(4);
const pace = ref(0);
const startError = ref<unknown>(null);
const starting = ref(false);

const now = computed(() => (points.value ? new Date(points.value.now).getTime() : 0));
const at = computed(() => picked.value ?? now.value);
const ms = (point: RecoveryPoint) => new Date(point.at).getTime();
const chosen = computed<Record<string, RecoveryPoint | undefined>>(() =>
  Object.fromEntries(
    (points.value?.groups ?? []).map((group) => [
      group.group,
      // The newest at or before the moment; where a group has none so old, its oldest.
      group.points.findLast((point) => ms(point) <= at.value) ?? group.points[0],
    ]),
  ),
);
const later = computed(() =>
  (points.value?.groups ?? []).filter((group) => {
    const point = chosen.value[group.group];
    return point && ms(point) > at.value;
  }),
);
const options = computed<TestOptions>(() => ({
  points: syncFirst.value
    ? {}
    : Object.fromEntries(Object.entries(chosen.value).flatMap(([group, point]) => (point ? [[group, point.id]] : []))),
  sync_first: syncFirst.value,
  pace: pace.value || 1,
  cleanup_after_s: cleanUp.value ? Math.round(hours.value * 3600) : 0,
}));

const { data: preflight, error: preflightError } = useQuery({
  queryKey: ["preflight", code, options],
  queryFn: () =>
    take(api.POST("/api/v1/plans/{code}/preflight", { params: { path: { code: code.value } }, body: options.value })),
  enabled: computed(() => !!points.value),
  placeholderData: (before) => before,
});
watch(preflight, (now) => {
  if (now && pace.value === 0) pace.value = now.practice ? now.usual_pace : 1;
});

const hint = computed(() => {
  for (const group of points.value?.groups ?? []) {
    const point = group.points.find((candidate) => candidate.id === group.hint);
    if (point) return { group: group.name, point };
  }
  return null;
});
const forecast = computed(() => preflight.value?.assessment.forecast);
const worst = computed(() => {
  const ages = Object.values(chosen.value).flatMap((point) => (point ? [(now.value - ms(point)) / 1000] : []));
  return ages.length ? Math.max(...ages) : null;
});
const shapes = { blocks: "■", warns: "▲", note: "●" } as const;

// One key for each opening of this page: pressing twice starts one run.
const key = crypto.randomUUID();
async function start() {
  if (starting.value || preflight.value?.assessment.blocked) return;
  starting.value = true;
  startError.value = null;
  try {
    const run = await take(
      api.POST("/api/v1/runs", {
        params: { header: { "Idempotency-Key": key } },
        body: { plan: code.value, ...options.value },
      }),
    );
    await client.invalidateQueries();
    await router.push(`/runs/${run.id}`);
  } catch (problem) {
    startError.value = problem;
  } finally {
    starting.value = false;
  }
}
useKeys([{ keys: ["Ctrl+Enter"], label: "Start the test", run: () => void start() }]);
</script>

<template>
  <div class="page">
    <ProblemNote v-if="error || pointsError" :error="error || pointsError" />
    <template v-if="detail">
      <h1 class="sentence">
        You are about to test <b>{{ count(detail.plan.waves.flatMap((w) => w.members).length, "workload") }}</b> of
        <RouterLink :to="`/plans/${code}`">{{ detail.plan.name }}</RouterLink>. Nothing starts until you say so at the bottom.
      </h1>
      <section class="consequences">
        <h2><span class="kind-test">test, isolated</span></h2>
        <p v-for="sentence in preflight?.consequences ?? []" :key="sentence">{{ sentence }}</p>
      </section>

      <section v-if="points">
        <h2>
          From which moment?
          <span class="plain">One moment for all {{ count(points.groups.length, "group") }}.</span>
          <template v-if="hint">
            <span class="plain bad">▲ Unusual changes on {{ hint.group }}.</span>
            <button class="link" @click="picked = ms(hint.point)">
              Take {{ moment(hint.point.at, true) }}, the newest point before them
            </button>
          </template>
          <button v-if="picked !== null" class="link" @click="picked = null">Take the newest</button>
        </h2>
        <PointTimeline v-if="!syncFirst" :groups="points.groups" :now="points.now" :at="at" :newest="picked === null" :chosen="chosen" @pick="picked = $event" />
        <p v-else class="under">The latest changes are copied first, so the copies are of the moment when that is done.</p>
        <p v-if="later.length && !syncFirst" class="bad">
          {{ later.map((group) => group.name).join(" and ") }} has no point so old; its oldest is taken, which is later than the rest.
        </p>
      </section>

      <div class="three">
        <section>
          <h2>Before it may start</h2>
          <ul v-if="preflight" class="checks">
            <li v-for="finding in preflight.assessment.findings" :key="finding.sentence" :class="finding.severity">
              <span aria-hidden="true">{{ shapes[finding.severity] }}</span> {{ finding.sentence }}
              <RouterLink :to="`/plans/${code}`" class="link">{{ finding.mend }}</RouterLink>
            </li>
            <li v-if="!preflight.assessment.blocked"><span aria-hidden="true">✓</span> Nothing blocks a test.</li>
          </ul>
          <ProblemNote v-if="preflightError" :error="preflightError" />
        </section>
        <section>
          <h2>Choices</h2>
          <p><el-checkbox v-model="syncFirst">Copy the latest changes first</el-checkbox></p>
          <p class="choice">
            <el-checkbox v-model="cleanUp">Clean up by itself after</el-checkbox>
            <el-input-number v-model="hours" :min="0.25" :max="168" :step="1" size="small" :disabled="!cleanUp" aria-label="Hours until cleanup" />
            h
          </p>
          <p v-if="preflight?.practice" class="choice">
            Pace
            <el-input-number v-model="pace" :min="1" :max="1000" :precision="0" size="small" aria-label="Pace" />
            times real speed
          </p>
          <p v-if="preflight?.last_notes" class="quiet">Notes from the last test: “{{ preflight.last_notes }}”</p>
        </section>
        <section class="go">
          <h2>Forecast</h2>
          <template v-if="forecast">
            <p class="clock mono">{{ clock(forecast.p50_s, true) }}</p>
            <p>
              {{ duration(forecast.p10_s) }} to {{ duration(forecast.p95_s) }}, {{ chance(forecast.chance) }} inside
              {{ duration(forecast.objective_s) }}
            </p>
            <p v-if="!syncFirst && worst !== null">The copies are {{ duration(worst) }} old at most.</p>
          </template>
          <button class="btn test" :disabled="starting || !preflight || preflight.assessment.blocked" @click="start">Start the test</button>
          <kbd>Ctrl ↵</kbd>
          <p v-if="preflight?.assessment.blocked" class="bad">Something blocks it; see the list on the left.</p>
          <ProblemNote v-if="startError" :error="startError" />
        </section>
      </div>
    </template>
  </div>
</template>

<style scoped>
.consequences {
  border: 2px dashed var(--test);
  background: var(--test-soft);
  border-radius: var(--radius);
  padding: var(--gap-2) var(--gap-4);
  margin: var(--gap-3) 0;
}
h2 {
  margin: var(--gap-2) 0;
  color: var(--ink-1);
}
h2 .plain {
  font-weight: 400;
}
h2 .link {
  font-weight: 600;
  margin-left: 6px;
}
.three {
  display: grid;
  grid-template-columns: 1.2fr 1fr 0.8fr;
  gap: var(--gap-5);
  margin-top: var(--gap-2);
}
.checks li {
  margin-bottom: 5px;
}
.checks .blocks {
  color: var(--disaster);
}
.choice {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 6px;
}
.go {
  border-left: 1px solid var(--rule);
  padding-left: var(--gap-5);
}
.clock {
  font-size: var(--text-clock);
  line-height: 1.1;
}
.go .btn {
  margin: var(--gap-3) var(--gap-2) 0 0;
}
@media (max-width: 900px) {
  .three {
    grid-template-columns: 1fr;
  }
}
</style>
