<script setup lang="ts">
import { useInfiniteQuery, useQuery } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { api, take } from "@/api/client";
import { usePlans } from "@/api/queries";
import type { RunLine } from "@/api/types";
import { FIELDS, KINDS, OUTCOMES, asQuery, asked, filterOf, type RunFilter } from "@/features/runs/runFilter";
import FileButton from "@/ui/FileButton.vue";
import KeptInput from "@/ui/KeptInput.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import SiteWay from "@/ui/SiteWay.vue";
import { useAct } from "@/ui/act";
import { clock, count, duration, moment } from "@/ui/format";
import { outcomeShapes } from "@/ui/outcomes";

const route = useRoute();
const router = useRouter();
const filter = computed(() => filterOf(route.query));
const narrowed = computed(() => FIELDS.some((name) => filter.value[name]));
const { data: listed } = usePlans();
const { data, error, fetchNextPage, hasNextPage } = useInfiniteQuery({
  queryKey: ["runs", filter],
  queryFn: ({ pageParam }) => {
    const query = { ...asked(filter.value), ...(pageParam ? { cursor: pageParam } : {}) };
    return take(api.GET("/api/v1/runs", { params: { query: query as { kind?: "test"; cursor?: string } } }));
  },
  initialPageParam: "",
  getNextPageParam: (last) => last.next,
  placeholderData: (before) => before,
});
const runs = computed(() => data.value?.pages.flatMap((page) => page.runs) ?? []);
const active = computed(() => runs.value.filter((run) => !run.outcome).length);
const more = computed(() => (hasNextPage.value ? "more than " : ""));

function narrow(name: keyof RunFilter, value: string) {
  void router.replace({ query: asked({ ...filter.value, [name]: value }) });
}

const { data: views } = useQuery({ queryKey: ["run-views"], queryFn: () => take(api.GET("/api/v1/run-views")) });
const { problem, act } = useAct();
const naming = ref(false);
const name = ref("");
async function keep() {
  await act(() => take(api.PUT("/api/v1/run-views", { body: { name: name.value.trim(), query: asQuery(filter.value) } })));
  if (!problem.value) naming.value = false;
}
const forget = (one: string) => act(() => take(api.DELETE("/api/v1/run-views", { params: { query: { name: one } } })));

const chosen = ref<number[]>([]);
const pair = computed(() => {
  const found = runs.value.filter((run) => chosen.value.includes(run.id) && run.outcome && !run.removed);
  return found.length === 2 && chosen.value.length === 2 && found[0]?.plan === found[1]?.plan ? found.map((run) => run.id) : null;
});
const whyNot = computed(() => {
  if (pair.value) return "";
  if (chosen.value.length !== 2) return "Select two runs of one plan to compare them.";
  return "These two cannot be compared: they are of two plans, or one is under way.";
});
const archive = computed(() => `/api/v1/evidence/archive.zip${chosen.value.length ? `?runs=${chosen.value.join(",")}` : ""}`);

const late = (run: RunLine) => run.ready_s !== null && run.ready_s > run.rto_objective_s;
</script>

<template>
  <div class="page">
    <h1 class="sentence">
      <template v-if="!data">Everything that was ever run.</template>
      <template v-else-if="!runs.length && !narrowed">Nothing was ever run. The proof of a plan begins with its first test.</template>
      <template v-else-if="!runs.length">No run fits these filters.</template>
      <template v-else>
        {{ more }}{{ count(runs.length, "run") }} {{ narrowed ? "fit" : "so far" }}, <b>{{ active || "none" }}</b> under way.
      </template>
    </h1>
    <ProblemNote v-if="error" :error="error" />
    <ProblemNote v-if="problem" :error="problem" />

    <form class="filters" aria-label="Filters" @submit.prevent>
      <el-form-item label="Plan"><el-select class="entry" aria-label="Plan" :model-value="filter.plan" filterable default-first-option @change="narrow('plan', $event)">
        <el-option value="" label="all" />
        <el-option v-for="plan in listed?.plans ?? []" :key="plan.code" :value="plan.code" :label="`${plan.name}`" />
      </el-select></el-form-item>
      <el-form-item label="Kind"><el-select class="entry" aria-label="Kind" :model-value="filter.kind" filterable default-first-option @change="narrow('kind', $event)">
        <el-option value="" label="all" />
        <el-option v-for="kind in KINDS" :key="kind" :value="kind" :label="`${kind}`" />
      </el-select></el-form-item>
      <el-form-item label="Outcome"><el-select class="entry" aria-label="Outcome" :model-value="filter.outcome" filterable default-first-option @change="narrow('outcome', $event)">
        <el-option value="" label="all" />
        <el-option v-for="outcome in OUTCOMES" :key="outcome" :value="outcome" :label="`${outcome}`" />
      </el-select></el-form-item>
      <el-form-item label="From"><el-date-picker type="date" value-format="YYYY-MM-DD" format="D MMM YYYY" :model-value="filter.since" @update:model-value="narrow('since', ($event ?? ''))" /></el-form-item>
      <el-form-item label="To"><el-date-picker type="date" value-format="YYYY-MM-DD" format="D MMM YYYY" :model-value="filter.until" @update:model-value="narrow('until', ($event ?? ''))" /></el-form-item>
      <el-form-item label="Words"><KeptInput class="entry" type="search" :value="filter.find" placeholder="plan, notes, person" maxlength="200" @done="narrow('find', $event)" /></el-form-item>
    </form>
    <p v-if="narrowed || views?.length" class="views">
      <!-- First, where it stays put when a view is kept or forgotten. -->
      <span class="view"><RouterLink to="/runs" :class="{ on: !narrowed }">All runs</RouterLink></span>
      <span v-for="view in views ?? []" :key="view.name" class="view">
        <RouterLink :to="`/runs?${view.query}`" :class="{ on: view.query === asQuery(filter) }">{{ view.name }}</RouterLink>
        <button class="link" :aria-label="`Forget the view ${view.name}`" @click="forget(view.name)">✕</button>
      </span>
      <template v-if="narrowed">
        <button v-if="!naming" class="link" @click="naming = true">Keep this view …</button>
        <form v-else class="naming" @submit.prevent="keep">
          <el-input v-model="name" class="entry" aria-label="Name of the view" placeholder="Name of the view" maxlength="80" required />
          <el-button class="btn" :disabled="!name.trim()" native-type="submit">Keep it</el-button>
        </form>
      </template>
    </p>

    <p v-if="runs.length" class="do">
      <RouterLink v-if="pair" class="btn" :to="`/runs/${pair[0]}/compared/${pair[1]}`">Compare the two</RouterLink>
      <el-button v-else class="btn" disabled title="Select two runs of one plan that have ended">Compare the two</el-button>
      <FileButton :path="archive" may="take-evidence">{{ chosen.length ? `Export ${count(chosen.length, "run")} for an auditor` : "Export all for an auditor" }}</FileButton>
      <span class="quiet" role="status">{{ whyNot }}</span>
    </p>
    <div v-if="runs.length" class="scroll">
      <table>
        <thead>
          <tr>
            <th><span class="out-of-sight">Select</span></th>
            <th>Run</th>
            <th>Plan</th>
            <th>Kind</th>
            <th>Started</th>
            <th>Time to recover</th>
            <th>Oldest point</th>
            <th>Outcome</th>
            <th>Evidence</th>
            <th>Notes</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="run in runs" :key="run.id" @click="router.push(run.removed ? `/runs/${run.id}/evidence` : `/runs/${run.id}`)">
            <td @click.stop><el-checkbox :model-value="chosen.includes(run.id)" :disabled="!run.sealed || run.removed" @change="chosen = $event ? [...chosen, run.id] : chosen.filter((one) => one !== run.id)"><span class="out-of-sight">{{ `Select run ${run.id}` }}</span></el-checkbox></td>
            <td class="mono">
              <RouterLink :to="`/runs/${run.id}`" @click.stop>{{ run.id }}</RouterLink>
            </td>
            <td>{{ run.plan_name }}<small class="quiet">version {{ run.plan_version }}, <SiteWay :source="run.source" :target="run.target" /></small></td>
            <td><span :class="`kind-${run.kind}`">{{ run.kind }}</span> <b v-if="run.emergency" class="bad" :title="`Started without the approvals that it needs: ${run.emergency}`">‼ emergency</b></td>
            <td>{{ moment(run.started_at) }}<small class="quiet">{{ run.started_by }}</small></td>
            <td class="mono" :class="{ bad: late(run) }">
              <template v-if="run.ready_s !== null">{{ clock(run.ready_s) }} of {{ clock(run.rto_objective_s) }}{{ late(run) ? " ✕" : "" }}</template>
              <template v-else>–</template>
            </td>
            <td>{{ run.rpo_s === null ? "–" : duration(run.rpo_s) }}</td>
            <td :class="{ bad: run.outcome === 'failed' }">{{ run.outcome ? `${outcomeShapes[run.outcome]} ${run.outcome}` : "◔ under way" }}</td>
            <td @click.stop>
              <RouterLink v-if="run.sealed" :to="`/runs/${run.id}/evidence`">{{ run.removed ? "log deleted" : "report" }}</RouterLink>
              <span v-else class="quiet">–</span>
              <span v-if="run.additions" class="quiet" :title="count(run.additions, 'addition')"> +{{ run.additions }}</span>
              <span v-if="run.legal_hold" :title="`Held: ${run.legal_hold}`"> ⚖ held</span>
            </td>
            <td class="notes">{{ run.notes }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <p v-if="hasNextPage"><el-button class="btn" @click="fetchNextPage()">Older runs</el-button></p>
  </div>
</template>

<style scoped>
.filters {
  display: flex;
  flex-wrap: wrap;
  gap: var(--gap-2) var(--gap-3);
  margin-top: var(--gap-3);
}
.filters label {
  color: var(--ink-2);
}
.filters .entry {
  display: block;
}
.views {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: var(--gap-3);
  margin-top: var(--gap-2);
  min-height: 26px;
}
.view .on {
  font-weight: 700;
}
.naming {
  display: flex;
  gap: var(--gap-2);
}
.do {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: var(--gap-2);
  margin-top: var(--gap-2);
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
  padding: 8px 12px 8px 0;
  border-bottom: 1px solid var(--rule);
  white-space: nowrap;
}
td {
  padding: 8px 12px 8px 0;
  border-bottom: 1px solid var(--rule);
  vertical-align: top;
  white-space: nowrap;
}
td.notes {
  white-space: normal;
  color: var(--ink-2);
  min-width: 200px;
}
small {
  display: block;
}
tr {
  cursor: pointer;
}
tbody tr:hover {
  background: var(--rule-faint);
}
</style>
