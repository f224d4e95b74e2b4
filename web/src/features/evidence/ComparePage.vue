<script setup lang="ts">
// Two runs of a plan on one time axis, and what differs between them by more than usual.
import { useQuery } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { useRoute } from "vue-router";
import { api, take } from "@/api/client";
import type { ReportView } from "@/api/types";
import { phases } from "@/features/evidence/words";
import ProblemNote from "@/ui/ProblemNote.vue";
import { clock, count, duration, moment } from "@/ui/format";
import { useKeys } from "@/ui/keys";
import ScoreView from "@/ui/score/ScoreView.vue";
import { extent } from "@/ui/score/layout";
import { outcomeShapes } from "@/ui/outcomes";

const SHOWN = 40;
const route = useRoute();
const ids = computed(() => [Number(route.params.id), Number(route.params.other)] as const);
const { data, error } = useQuery({
  queryKey: ["compared", ids],
  queryFn: () => take(api.GET("/api/v1/runs/{id}/compared", { params: { path: { id: ids.value[0] }, query: { with: ids.value[1] } } })),
});
const picked = ref<string[]>([]);
// Both scores end at the same second, so that a bar that is longer is longer.
const end = computed(() => {
  const now = data.value;
  if (!now) return 0;
  return Math.max(extent(now.earlier_steps, now.earlier.rto_objective_s, null, false), extent(now.later_steps, now.later.rto_objective_s, null, false));
});
const both = computed(() => {
  const now = data.value;
  return now ? ([["earlier", now.earlier, now.earlier_steps, now.earlier_waves], ["later", now.later, now.later_steps, now.later_waves]] as const) : [];
});
const all = ref(false);
const onlyUnusual = ref(false);
const steps = computed(() => (data.value?.comparison.steps ?? []).filter((one) => !onlyUnusual.value || one.unusual));
const shown = computed(() => (all.value ? steps.value : steps.value.slice(0, SHOWN)));
const more = (earlier: number | null, later: number | null) => (earlier === null || later === null ? null : later - earlier);
function signed(seconds: number | null): string {
  if (seconds === null) return "–";
  return Math.abs(seconds) < 0.5 ? "same" : `${seconds > 0 ? "+" : "−"}${duration(Math.abs(seconds))}`;
}
const scrollBoth = ref(0);
function follow(event: Event) {
  scrollBoth.value = (event.target as HTMLElement).scrollTop;
  for (const score of document.querySelectorAll<HTMLElement>(".both .score")) if (score !== event.target && Math.abs(score.scrollTop - scrollBoth.value) > 1) score.scrollTop = scrollBoth.value;
}
function figures(earlier: ReportView, later: ReportView) {
  const rows: [string, number | null, number | null][] = [
    ["Time to recover", earlier.facts.rto_s, later.facts.rto_s],
    ["Oldest point", oldest(earlier), oldest(later)],
    ["Machine time", earlier.facts.machine_s, later.facts.machine_s],
    ["Waiting for people", earlier.facts.people_s, later.facts.people_s],
  ];
  return rows;
}
const oldest = (report: ReportView) => (Object.keys(report.facts.rpo_s).length ? Math.max(...Object.values(report.facts.rpo_s)) : null);
useKeys([{ keys: ["U"], label: "Only what is unusual", run: () => (onlyUnusual.value = !onlyUnusual.value) }]);
</script>

<template>
  <div class="page">
    <ProblemNote v-if="error" :error="error" />
    <p v-if="error"><RouterLink to="/runs">Choose two runs of one plan</RouterLink></p>
    <p v-else-if="!data" class="quiet">Laying two runs beside each other …</p>
    <template v-if="data">
      <h1 class="sentence">{{ data.comparison.sentence }}</h1>
      <p class="under">
        <RouterLink :to="`/runs/${data.earlier.run}/evidence`">Run {{ data.earlier.run }}</RouterLink> of {{ moment(data.earlier.started_at) }} against
        <RouterLink :to="`/runs/${data.later.run}/evidence`">run {{ data.later.run }}</RouterLink> of {{ moment(data.later.started_at) }}.
        <RouterLink :to="`/evidence/plans/${data.later.plan}`">All runs of {{ data.later.plan_name }}</RouterLink>
      </p>
      <section v-for="[when, report, drawn, waves] in both" :key="when" class="both" :aria-label="`The ${when} run`" @scroll.capture="follow">
        <h2>
          {{ when === "earlier" ? "Earlier" : "Later" }}: run {{ report.run }}, version {{ report.plan_version }},
          {{ outcomeShapes[report.outcome] }} {{ report.outcome || "under way" }}
        </h2>
        <ScoreView :steps="drawn" :waves="waves" :objective="report.rto_objective_s" :ends="end" :likely="report.facts.rto_s" :selected="picked" max-height="50vh" @pick="(workload) => (picked = [workload])" />
      </section>

      <div class="columns">
        <div>
          <h2>Steps
            <el-checkbox v-model="onlyUnusual">only what is unusual</el-checkbox>
          </h2>
          <p v-if="!steps.length" class="quiet">No step differs by more than its usual spread.</p>
          <table v-else class="lines steps">
            <thead><tr><th>Step</th><th>Run {{ data.earlier.run }}</th><th>Run {{ data.later.run }}</th><th>Difference</th><th>Usually</th></tr></thead>
            <tbody>
              <tr v-for="one in shown" :key="one.step" :class="{ odd: one.unusual }" @click="picked = one.workload ? [one.workload] : []">
                <td>{{ one.workload }} <span :class="{ quiet: one.workload }">{{ one.title }}</span></td>
                <td class="mono">{{ one.earlier_s === null ? "–" : duration(one.earlier_s) }}</td>
                <td class="mono">{{ one.later_s === null ? "–" : duration(one.later_s) }}</td>
                <td class="mono" :class="{ bad: one.unusual && (more(one.earlier_s, one.later_s) ?? 0) > 0 }">
                  {{ one.earlier_s === null ? "only later" : one.later_s === null ? "only earlier" : signed(more(one.earlier_s, one.later_s)) }}<template v-if="one.unusual"> {{ (more(one.earlier_s, one.later_s) ?? 0) > 0 ? "▲" : "▼" }} unusual</template>
                </td>
                <td class="mono quiet">{{ one.high_s ? `${duration(one.low_s)} – ${duration(one.high_s)}` : "" }}</td>
              </tr>
            </tbody>
          </table>
          <p v-if="steps.length > shown.length"><button class="link" @click="all = true">All {{ count(steps.length, "step") }}</button></p>
        </div>
        <aside>
          <h2>In figures</h2>
          <table class="lines">
            <thead><tr><th><span class="out-of-sight">What</span></th><th>{{ data.earlier.run }}</th><th>{{ data.later.run }}</th><th><span class="out-of-sight">Difference</span></th></tr></thead>
            <tbody>
              <tr v-for="[name, earlier, later] in figures(data.earlier, data.later)" :key="name">
                <td>{{ name }}</td>
                <td class="mono">{{ earlier === null ? "–" : clock(earlier) }}</td>
                <td class="mono">{{ later === null ? "–" : clock(later) }}</td>
                <td class="mono quiet">{{ signed(more(earlier, later)) }}</td>
              </tr>
              <tr><td>Failed tries</td><td class="mono">{{ data.earlier.facts.failures }}</td><td class="mono">{{ data.later.facts.failures }}</td><td /></tr>
            </tbody>
          </table>
          <h2>What changed between them</h2>
          <template v-for="[name, lines] in ([['In the plan', data.comparison.plan], ['In the estate', data.comparison.estate], ['In the landings', data.comparison.landings]] as const)" :key="name">
            <p class="quiet">{{ name }}</p>
            <ul v-if="lines.length" class="changes"><li v-for="text in lines" :key="text">{{ text }}</li></ul>
            <p v-else class="changes">nothing</p>
          </template>
          <h2>Phases</h2>
          <ul>
            <li v-for="phase in data.later.phases" :key="phase.phase" class="phase">
              <span>{{ phases[phase.phase] ?? phase.phase }}</span>
              <span class="mono">{{ signed(more(data.earlier.phases.filter((one) => one.phase === phase.phase).map((one) => one.to_s - one.from_s)[0] ?? null, phase.to_s - phase.from_s)) }}</span>
            </li>
          </ul>
        </aside>
      </div>
    </template>
  </div>
</template>

<style scoped>
.both {
  margin-top: var(--gap-3);
  border-top: 1px solid var(--rule);
}
.columns {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 320px;
  gap: var(--gap-5);
  margin-top: var(--gap-4);
}
.check {
  font-weight: 400;
  margin-left: var(--gap-3);
}
.steps tr {
  cursor: pointer;
}
.odd {
  background: var(--brass-soft);
}
aside h2 {
  margin-top: var(--gap-4);
}
aside h2:first-child {
  margin-top: 0;
}
.changes {
  margin-bottom: var(--gap-2);
}
.changes li {
  border-left: 3px solid var(--rule);
  padding-left: var(--gap-2);
  margin: 2px 0;
}
.phase {
  display: flex;
  justify-content: space-between;
}
@media (max-width: 900px) {
  .columns {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
