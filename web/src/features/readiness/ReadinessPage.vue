<script setup lang="ts">
import { useQuery } from "@tanstack/vue-query";
import { computed } from "vue";
import { api, take } from "@/api/client";
import IntervalPlot from "@/ui/IntervalPlot.vue";
import PlanCould from "@/ui/PlanCould.vue";
import PlanProof from "@/ui/PlanProof.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import SiteWay from "@/ui/SiteWay.vue";
import { count, duration, list, moment } from "@/ui/format";
import { useKeys } from "@/ui/keys";
import { useRouter } from "vue-router";

const router = useRouter();
const { data, error } = useQuery({
  queryKey: ["readiness"],
  queryFn: () => take(api.GET("/api/v1/readiness")),
});

const first = computed(() => data.value?.if_lost[0]);
function nameOf(code: string): string {
  return data.value?.plans.find((plan) => plan.code === code)?.name ?? code;
}
const scale = computed(() =>
  Math.max(1, ...(data.value?.plans ?? []).flatMap((plan) => (plan.forecast ? [plan.forecast.objective_s, plan.forecast.p95_s] : []))),
);
const under = computed(() => {
  const plans = data.value?.plans ?? [];
  const short = plans.filter((plan) => plan.forecast && plan.forecast.p80_s > plan.forecast.objective_s).length;
  const never = plans.filter((plan) => !plan.last_proof).length;
  const overdue = plans.filter((plan) => plan.last_proof?.overdue).length;
  const said = [];
  if (short) said.push(`${count(short, "plan is", "plans are")} likely to miss an objective`);
  if (never) said.push(`${never} ${never === 1 ? "was" : "were"} never tested`);
  if (overdue) said.push(`${overdue} ${overdue === 1 ? "is" : "are"} overdue for a test`);
  return said.length ? `${list(said)}.` : "Every plan meets its objectives and was proved in time.";
});

useKeys(
  Array.from({ length: 5 }, (_, i) => ({
    keys: [String(i + 1)],
    label: `Do number ${i + 1} of the list`,
    run: () => {
      const action = data.value?.actions[i];
      if (action) void router.push(action.to);
    },
  })),
);
</script>

<template>
  <div class="page">
    <ProblemNote v-if="error && !data" :error="error" />
    <template v-if="data">
      <template v-if="data.plans.length">
        <h1 v-if="first" class="sentence" :class="{ bad: first.down }">{{ first.sentence }}</h1>
        <p v-if="first?.why_not" class="under">{{ first.why_not }}</p>
        <p v-if="first?.plans.length" class="ways">
          <RouterLink v-for="plan in first.plans" :key="plan" :to="first.down ? `/plans/${plan}/start?kind=disaster` : `/plans/${plan}`" :class="first.down ? 'btn disaster' : 'link'">
            {{ first.down ? `Recover ${nameOf(plan)}` : `by ${nameOf(plan)}` }}
          </RouterLink>
        </p>
        <details v-if="data.if_lost.length > 1" class="others">
          <summary>{{ count(data.if_lost.length - 1, "other site") }}</summary>
          <p v-for="one in data.if_lost.slice(1)" :key="one.site">{{ one.sentence }} <span class="quiet">{{ one.why_not }}</span></p>
        </details>
      </template>
      <h1 v-else class="sentence">There is no plan yet, so nothing could be recovered. <RouterLink to="/plans/new">Make the first one</RouterLink>.</h1>
      <p v-if="data.plans.length" class="under">{{ under }} <span class="quiet">As of {{ moment(data.now, true) }}.</span></p>

      <section v-if="data.actions.length">
        <h2 class="head">Next, most urgent first</h2>
        <ol class="actions">
          <li v-for="(action, index) in data.actions" :key="action.title">
            <span class="roman">{{ index + 1 }}</span>
            <div>
              <strong>{{ action.title }}</strong>
              <p class="quiet">{{ action.sentence }}</p>
            </div>
            <RouterLink :to="action.to" class="btn" :class="{ main: action.urgency === 'now' }">{{ action.label }}</RouterLink>
          </li>
        </ol>
      </section>

      <div class="scroll">
        <table v-if="data.plans.length">
          <thead>
            <tr>
              <th>Plan</th>
              <th>Direction</th>
              <th>Time to recover, against objective</th>
              <th>Data at risk now</th>
              <th>Last proof</th>
              <th>Could it run now?</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="plan in data.plans" :key="plan.code">
              <td>
                <RouterLink :to="`/plans/${plan.code}`" class="plan">{{ plan.name }}</RouterLink>
              </td>
              <td><SiteWay :source="plan.source" :target="plan.target" /></td>
              <td>
                <IntervalPlot v-if="plan.forecast" :forecast="plan.forecast" :scale="scale" />
                <span v-else class="bad">no forecast: fix its findings first</span>
              </td>
              <td :class="{ bad: plan.at_risk_s === null || plan.at_risk_s > plan.rpo_s }">
                <template v-if="plan.at_risk_s !== null">{{ duration(plan.at_risk_s) }} of {{ duration(plan.rpo_s) }}</template>
                <template v-else>{{ plan.no_risk_because }}</template>
              </td>
              <td>
                <PlanProof :proof="plan.last_proof" />
                <small v-if="plan.stale.length" class="quiet stale" :title="plan.stale.join('\n')">{{ plan.stale.length === 1 ? plan.stale[0] : `${count(plan.stale.length, "thing")} changed since` }}</small>
              </td>
              <td><PlanCould :code="plan.code" :kinds="plan.kinds" :active-run="plan.active_run" /></td>
            </tr>
          </tbody>
        </table>
      </div>
    </template>
    <p v-else-if="!error" class="quiet">Assessing every plan …</p>
  </div>
</template>

<style scoped>
.ways {
  display: flex;
  flex-wrap: wrap;
  gap: var(--gap-3);
  margin-top: var(--gap-2);
}
.others {
  margin-top: var(--gap-2);
}
.others summary {
  cursor: pointer;
  color: var(--ink-2);
}
.head {
  margin: var(--gap-4) 0 var(--gap-1);
}
.stale {
  display: block;
}
.actions li {
  display: flex;
  align-items: center;
  gap: var(--gap-4);
  padding: 8px 0;
  border-bottom: 1px solid var(--rule);
}
.actions div {
  flex: 1;
}
.scroll {
  overflow-x: auto;
}
table {
  width: 100%;
  border-collapse: collapse;
  margin-top: var(--gap-2);
}
th {
  text-align: left;
  color: var(--ink-2);
  padding: 10px 12px 8px 0;
  border-bottom: 1px solid var(--rule);
  white-space: nowrap;
}
td {
  padding: 9px 12px 9px 0;
  border-bottom: 1px solid var(--rule);
}
.plan {
  font-weight: 700;
  text-decoration: none;
}
.plan:hover {
  text-decoration: underline;
}
</style>
