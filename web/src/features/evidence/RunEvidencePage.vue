<script setup lang="ts">
// One run for whoever asks what came out: the first page of its report, its seal, and what was said later.
import { useQuery } from "@tanstack/vue-query";
import { computed, ref, useTemplateRef } from "vue";
import { useRoute, useRouter } from "vue-router";
import { api, take } from "@/api/client";
import { useDownload } from "@/api/download";
import { useRunTraps } from "@/api/queries";
import { asFile } from "@/api/upload";
import { kinds, phases } from "@/features/evidence/words";
import FindingList from "@/ui/FindingList.vue";
import MarkdownText from "@/ui/MarkdownText.vue";
import KnownTraps from "@/ui/KnownTraps.vue";
import ProbeList from "@/ui/ProbeList.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAct } from "@/ui/act";
import { clock, count, duration, moment, size } from "@/ui/format";
import { useKeys } from "@/ui/keys";
import { outcomeShapes } from "@/ui/outcomes";
import { things } from "@/ui/traps";

const route = useRoute();
const router = useRouter();
const id = computed(() => Number(route.params.id));
const path = computed(() => ({ path: { id: id.value } }));
const { data, error } = useQuery({
  queryKey: ["evidence", id],
  queryFn: () => take(api.GET("/api/v1/runs/{id}/evidence", { params: path.value })),
  refetchInterval: (query) => (query.state.data && !query.state.data.sealed_at ? 4000 : false),
});
const report = computed(() => data.value?.report);
const at = (name: string) => `/api/v1/runs/${id.value}/${name}`;
const atPage = ref(0);
const printed = useDownload(async () => {
  const told = await take(api.GET("/api/v1/runs/{id}/report.pdf/progress", { params: path.value })).catch(() => null);
  atPage.value = told?.page ?? atPage.value;
});
function print() {
  atPage.value = 0;
  return printed.download(at("report.pdf"), `run-${id.value}.report.pdf`);
}

const other = ref("");
const compare = () => other.value && router.push(`/runs/${id.value}/compared/${other.value}`);

const { problem, busy, act } = useAct();
const note = ref("");
const picked = useTemplateRef<HTMLInputElement>("picked");
async function addNote() {
  await act(() => take(api.POST("/api/v1/runs/{id}/notes", { params: path.value, body: { text: note.value } })));
  if (!problem.value) note.value = "";
}
async function addFile() {
  const file = picked.value?.files?.[0];
  if (!file) return;
  await act(() => take(api.POST("/api/v1/runs/{id}/files", { params: { ...path.value, query: { name: file.name, type: file.type } }, ...asFile(file) })));
  if (picked.value) picked.value.value = "";
}
const { data: traps } = useRunTraps(id);
const about = computed(() => (report.value ? things(report.value.plan, report.value.groups.map((one) => one.group), report.value.groups.flatMap((one) => one.workloads)) : []));
const holding = ref(false);
const reason = ref("");
async function hold(text: string) {
  await act(() => take(api.PUT("/api/v1/runs/{id}/legal-hold", { params: path.value, body: { reason: text } })));
  if (!problem.value) holding.value = false;
}
useKeys([
  { keys: ["P"], label: "Report as PDF", run: () => void print() },
  { keys: ["C"], label: "Compare with the run before", run: () => data.value?.others[0] && void router.push(`/runs/${id.value}/compared/${data.value.others[0]}`) },
]);
</script>

<template>
  <div class="page">
    <ProblemNote v-if="error" :error="error" />
    <p v-if="error"><RouterLink to="/runs">All runs</RouterLink></p>
    <p v-else-if="!data" class="quiet">Checking every event of run {{ id }} …</p>
    <template v-if="data && !report">
      <h1 class="sentence">The log of run {{ id }} was touched, so that nothing can be read from it.</h1>
      <p class="seal broken" role="alert" data-testid="seal"><b>✕ The seal does not hold.</b> {{ data.verification?.sentence }} Restore it from a backup.</p>
    </template>
    <template v-if="data && report">
      <h1 class="sentence"><span :class="`kind-${report.kind}`">{{ report.kind }}</span> {{ report.sentence }}</h1>
      <p class="under">
        Run {{ report.run }} of version {{ report.plan_version }}, started by {{ report.started_by }} on {{ moment(report.started_at) }}.
        <RouterLink :to="`/runs/${id}`">The score and the log</RouterLink>
      </p>

      <div class="columns">
        <div>
          <p v-if="data.verification?.holds" class="seal holds" data-testid="seal">
            <b>✓ Sealed.</b> {{ data.verification.sentence }}
            <span class="quiet">Key <span class="mono">{{ data.verification.key.slice(0, 12) }}…</span>, {{ moment(data.sealed_at ?? "") }}.</span>
          </p>
          <p v-else-if="data.verification" class="seal broken" role="alert" data-testid="seal"><b>✕ {{ data.sealed_at ? "The seal does not hold." : "There is no seal." }}</b> {{ data.verification.sentence }}</p>
          <p v-else class="seal" data-testid="seal">◌ Not sealed yet: a run is sealed within seconds of its end.</p>

          <h2>Objectives</h2>
          <div class="scroll" tabindex="0"><table class="lines">
            <thead><tr><th>What</th><th>Objective</th><th>Achieved</th><th>From the point of</th></tr></thead>
            <tbody>
              <tr v-if="report.kind !== 're-protect'">
                <td>Time to recover (RTO), the plan</td>
                <td class="mono">{{ duration(report.rto_objective_s) }}</td>
                <td :class="{ bad: !report.rto_met }">
                  <template v-if="report.facts.rto_s === null">✕ never up as a whole</template>
                  <template v-else>{{ report.rto_met ? "✓" : "✕" }} {{ duration(report.facts.rto_s) }}</template>
                </td>
                <td />
              </tr>
              <tr v-for="group in report.groups" :key="group.group">
                <td>
                  Data at risk (RPO), {{ group.group }} <span class="quiet">{{ count(group.workloads.length, "workload") }}</span>
                  <div v-for="(from, name) in group.apart" :key="name" class="quiet">▲ {{ name }} from {{ moment(from, true) }}</div>
                </td>
                <td class="mono">{{ duration(report.rpo_objective_s) }}</td>
                <td :class="{ bad: group.met === false }">
                  <template v-if="group.rpo_s === null">–</template>
                  <template v-else>{{ group.met ? "✓" : "✕" }} {{ duration(group.rpo_s) }}</template>
                </td>
                <td class="quiet">{{ group.point_at ? `${moment(group.point_at, true)}, ${group.point_kind}` : "–" }}</td>
              </tr>
            </tbody>
          </table></div>

          <h2>Where the time went</h2>
          <ul class="phases">
            <li v-for="phase in report.phases" :key="phase.phase">
              <span>{{ phases[phase.phase] ?? phase.phase }}</span>
              <span class="mono">{{ clock(phase.from_s) }} – {{ clock(phase.to_s) }}</span>
              <span>{{ duration(phase.to_s - phase.from_s) }}</span>
            </li>
          </ul>
          <p class="quiet">
            {{ duration(report.facts.machine_s) }} of machine time, and {{ duration(report.facts.people_s) }} of waiting for people, which is kept apart.
            <template v-if="report.added_s !== null">Of the recovery time Maestoso itself took {{ duration(report.added_s) }}; the rest is work of the sites and what the plan waits for.</template>
            {{ report.facts.failures ? `${count(report.facts.failures, "try", "tries")} failed, ${count(report.facts.skipped, "step")} passed over.` : "No step failed." }}
          </p>
          <template v-if="report.outages.length">
            <h2>Outage clocks</h2>
            <ul>
              <li v-for="(outage, i) in report.outages" :key="i">
                {{ outage.workload }} <span class="quiet">{{ outage.service }}</span>
                {{ outage.to_s !== null ? `was away for ${duration(outage.to_s - outage.from_s - outage.up_s)}${outage.spells > 1 ? `, ${outage.spells} times` : ""}` : outage.left_off ? "was left off by intent" : "had not answered again when the run ended" }}
              </li>
            </ul>
          </template>
          <ProbeList v-if="report.probes.length" :probes="report.probes" />

          <h2>What people did</h2>
          <ol class="people">
            <li v-for="said in report.people" :key="said.seq"><span class="mono quiet" :title="moment(said.at, true)">{{ clock(said.run_s) }}</span> {{ said.sentence }}</li>
          </ol>
          <template v-if="report.findings?.length">
            <h2>What preflight had noticed</h2>
            <FindingList :findings="report.findings" compact />
            <p v-if="report.reason">Started in spite of it: “{{ report.reason }}”</p>
          </template>
          <p v-else-if="report.findings" class="quiet">Preflight had noticed nothing.</p>
          <p v-if="report.remains" :class="{ bad: report.remains.length }">
            {{ report.remains.length ? `✕ Left behind at ${report.target_name}: ${report.remains.join(", ")}.` : `✓ Leak check: nothing of the test was left at ${report.target_name}.` }}
          </p>
          <p v-if="report.landings_said">
            <RouterLink :to="`/runs/${id}/landings`">{{ count(report.landings.length, "adapter") }}</RouterLink>:
            {{ report.landings.filter((one) => one.differs).length || "none" }} had something else than planned.
          </p>
        </div>

        <aside>
          <h2>Take it along</h2>
          <ul class="files">
            <li><a class="btn" :href="at('report.html')" target="_blank" rel="noopener">Report as a page</a></li>
            <li>
              <el-button class="btn" :disabled="printed.busy.value" @click="print">{{ printed.busy.value ? (atPage ? `Setting page ${atPage} …` : "Setting it …") : "Report as PDF" }}</el-button>
            </li>
            <li><a :href="at('report.json')" download>Data (JSON)</a> · <a :href="at('report.csv')" download>Steps (CSV)</a></li>
            <li v-if="data.sealed_at">
              <a :href="at('evidence.jsonl')" download>Evidence file</a>
              <p class="quiet">Every event and the seal: anybody can <RouterLink to="/evidence/check">check it</RouterLink>, with or without Maestoso.</p>
            </li>
          </ul>
          <ProblemNote v-if="printed.problem.value" :error="printed.problem.value" />

          <h2>Beside another run</h2>
          <form v-if="data.others.length" class="line" @submit.prevent="compare">
            <el-select v-model="other" placeholder="choose …" :empty-values="['', null, undefined]" class="entry" aria-label="Other run" filterable default-first-option>
              <el-option v-for="run in data.others" :key="run" :value="String(run)" :label="`run ${run}`" />
            </el-select>
            <el-button class="btn" :disabled="!other" native-type="submit">Compare</el-button>
          </form>
          <p v-else class="quiet">It is the only {{ (kinds[report.kind] ?? report.kind).toLowerCase() }} of this plan.</p>
          <p><RouterLink :to="`/evidence/plans/${report.plan}`">{{ report.plan_name }} over all its runs</RouterLink></p>

          <h2>Verdict and notes</h2>
          <p><b>{{ outcomeShapes[report.outcome] ?? "◔" }} {{ report.outcome || "under way" }}</b></p>
          <MarkdownText v-if="report.notes" :text="report.notes" />
          <p v-else class="quiet">Nothing was noted with the verdict.</p>

          <template v-if="report.outcome">
            <h2>Added later</h2>
            <p class="quiet">Kept apart from what was sealed, each signed on its own.</p>
            <ul class="added">
              <li v-for="one in data.additions" :key="one.number" :data-addition="one.number">
                <p class="quiet">{{ moment(one.at) }}, {{ one.by }} <b v-if="!one.holds" class="bad">✕ not as it was signed</b></p>
                <MarkdownText v-if="one.text" :text="one.text" />
                <a v-if="one.name" :href="at(`files/${one.number}`)" download>{{ one.name }}</a> <span v-if="one.name" class="quiet">{{ size(one.size) }}</span>
              </li>
            </ul>
            <ProblemNote v-if="problem" :error="problem" />
            <form class="form" @submit.prevent="addNote">
              <el-form-item label="A note, a lesson"><el-input v-model="note" type="textarea" :rows="3" maxlength="8000" /></el-form-item>
              <el-button class="btn" :disabled="!note.trim() || busy" native-type="submit">Add it</el-button>
            </form>
            <p class="attach"><label>Attach a file, up to 10 MiB <input ref="picked" type="file" :disabled="busy" @change="addFile" /></label></p>

            <h2>Known traps</h2>
            <KnownTraps :traps="traps ?? []" :things="about" :run="report.run" />

            <h2>Kept</h2>
            <p v-if="data.legal_hold">⚖ Held: {{ data.legal_hold }} <button class="link" @click="hold('')">Let it go when its time comes</button></p>
            <template v-else>
              <p class="quiet">{{ data.leaves_at ? `Until ${moment(data.leaves_at)}, then its log is let go; its line and its seal stay.` : "For ever." }}</p>
              <button v-if="!holding" class="link" @click="holding = true">Put a legal hold on it …</button>
              <form v-else class="form" @submit.prevent="hold(reason)">
                <el-form-item label="Why it must be kept"><el-input v-model="reason" maxlength="400" required /></el-form-item>
                <el-button class="btn" :disabled="!reason.trim()" native-type="submit">Hold it</el-button>
              </form>
            </template>
          </template>
        </aside>
      </div>
    </template>
  </div>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 276px;
  gap: var(--gap-5);
  margin-top: var(--gap-3);
}
h2 {
  margin: var(--gap-4) 0 var(--gap-1);
}
aside h2:first-child {
  margin-top: 0;
}
.seal {
  border-left: 4px solid var(--rule);
  padding: 6px 12px;
  background: var(--sheet);
}
.seal.holds {
  border-left-color: var(--test);
}
.seal.broken {
  border-left: 6px double var(--disaster);
  background: var(--disaster-soft);
}
.phases li {
  display: grid;
  grid-template-columns: minmax(0, 200px) minmax(0, 170px) 1fr;
  gap: 0 var(--gap-2);
  padding: 2px 0;
  border-bottom: 1px solid var(--rule-faint);
}
.people li {
  display: grid;
  grid-template-columns: 76px 1fr;
  padding: 2px 0;
}
.files li {
  margin-bottom: var(--gap-2);
}
.line {
  display: flex;
  gap: var(--gap-2);
}
.added li {
  border-left: 3px solid var(--brass);
  padding-left: var(--gap-2);
  margin: var(--gap-2) 0;
}
.attach {
  margin-top: var(--gap-3);
  color: var(--ink-2);
}
.attach input {
  display: block;
  max-width: 100%;
  font: inherit;
}
@media (max-width: 900px) {
  .columns {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
