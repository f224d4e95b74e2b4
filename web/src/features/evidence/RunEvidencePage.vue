<script setup lang="ts">
// One run for whoever asks what came out: the first page of its report, its seal, and what was said later.
import { useQuery } from "@tanstack/vue-query";
import { computed, useTemplateRef } from "vue";
import { useRoute, useRouter } from "vue-router";
import { api, take } from "@/api/client";
import { useRunTraps } from "@/api/queries";
import EvidenceAdditions from "@/features/evidence/EvidenceAdditions.vue";
import EvidenceFiles from "@/features/evidence/EvidenceFiles.vue";
import LegalHold from "@/features/evidence/LegalHold.vue";
import ObjectivesTable from "@/features/evidence/ObjectivesTable.vue";
import OtherRun from "@/features/evidence/OtherRun.vue";
import { phases } from "@/features/evidence/words";
import FindingList from "@/ui/FindingList.vue";
import MarkdownText from "@/ui/MarkdownText.vue";
import KnownTraps from "@/ui/KnownTraps.vue";
import ProbeList from "@/ui/ProbeList.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { clock, count, duration, exactMoment } from "@/ui/format";
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
const { data: traps } = useRunTraps(id);
const about = computed(() => (report.value ? things(report.value.plan, report.value.groups.map((one) => one.group), report.value.groups.flatMap((one) => one.workloads)) : []));
const files = useTemplateRef<InstanceType<typeof EvidenceFiles>>("files");
useKeys([
  { keys: ["P"], label: "Report as PDF", run: () => void files.value?.print() },
  { keys: ["C"], label: "Compare with the run before", run: () => data.value?.others[0] && void router.push(`/runs/${id.value}/compared/${data.value.others[0]}`) },
]);
</script>

<template>
  <div class="page">
    <ProblemNote v-if="error" :error="error" />
    <p v-if="error"><RouterLink to="/runs">All runs</RouterLink></p>
    <p v-else-if="!data" class="quiet">Checking every event of run {{ id }} …</p>
    <template v-if="data && !report">
      <h1 class="sentence">The log of run {{ id }} was altered, so that nothing can be read from it.</h1>
      <p class="seal broken" role="alert" data-testid="seal"><b>✕ The seal does not hold.</b> {{ data.verification?.sentence }} Restore it from a backup.</p>
    </template>
    <template v-if="data && report">
      <h1 class="sentence"><span :class="`kind-${report.kind}`">{{ report.kind }}</span> {{ report.sentence }}</h1>
      <p class="under">
        Run {{ report.run }} of version {{ report.plan_version }}, started by {{ report.started_by }} on {{ exactMoment(report.started_at) }}.
        <RouterLink :to="`/runs/${id}`">The score and the log</RouterLink>
      </p>

      <div class="columns">
        <div>
          <p v-if="data.verification?.holds" class="seal holds" data-testid="seal">
            <b>✓ Sealed.</b> {{ data.verification.sentence }}
            <span class="quiet">Key <span class="mono">{{ data.verification.key.slice(0, 12) }}…</span>, {{ exactMoment(data.sealed_at ?? "") }}.</span>
          </p>
          <p v-else-if="data.verification" class="seal broken" role="alert" data-testid="seal"><b>✕ {{ data.sealed_at ? "The seal does not hold." : "There is no seal." }}</b> {{ data.verification.sentence }}</p>
          <p v-else class="seal" data-testid="seal">◌ Not sealed yet: a run is sealed within seconds of its end.</p>

          <ObjectivesTable :report="report" />

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
            {{ report.facts.failures ? `${count(report.facts.failures, "try", "tries")} failed, ${count(report.facts.skipped, "step")} skipped.` : "No step failed." }}
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
          <p v-if="report.emergency" class="bad"><b>‼ Started as an emergency</b>, without the approvals that it needs: {{ report.emergency }}</p>
          <p v-for="one in report.approvals" :key="one.by">✓ Approved by {{ one.by }}, {{ exactMoment(one.at) }}. {{ one.text }}</p>
          <ol class="people">
            <li v-for="said in report.people" :key="said.seq"><span class="mono quiet" :title="exactMoment(said.at)">{{ clock(said.run_s) }}</span> {{ said.sentence }}</li>
          </ol>
          <template v-if="report.findings?.length">
            <h2>Findings of the preflight</h2>
            <FindingList :findings="report.findings" compact />
            <p v-if="report.reason">Started in spite of it: “{{ report.reason }}”</p>
          </template>
          <p v-else-if="report.findings" class="quiet">The preflight had no findings.</p>
          <p v-if="report.remains" :class="{ bad: report.remains.length }">
            {{ report.remains.length ? `✕ Left behind at ${report.target_name}: ${report.remains.join(", ")}.` : `✓ Leak check: nothing of the test was left at ${report.target_name}.` }}
          </p>
          <p v-if="report.landings_said">
            <RouterLink :to="`/runs/${id}/landings`">{{ count(report.landings.length, "adapter") }}</RouterLink>:
            {{ report.landings.filter((one) => one.differs).length || "none" }} had something else than planned.
          </p>
        </div>

        <aside>
          <EvidenceFiles ref="files" :run="id" :sealed="!!data.sealed_at" />

          <h2>Compare with another run</h2>
          <OtherRun :run="id" :others="data.others" :kind="report.kind" />
          <p><RouterLink :to="`/evidence/plans/${report.plan}`">{{ report.plan_name }} over all its runs</RouterLink></p>

          <h2>Verdict and notes</h2>
          <p><b>{{ outcomeShapes[report.outcome] ?? "◔" }} {{ report.outcome || "under way" }}</b></p>
          <MarkdownText v-if="report.notes" :text="report.notes" />
          <p v-else class="quiet">Nothing was noted with the verdict.</p>

          <template v-if="report.outcome">
            <EvidenceAdditions :run="id" :additions="data.additions" />
            <h2>Known traps</h2>
            <KnownTraps :traps="traps ?? []" :things="about" :run="report.run" />

            <LegalHold :run="id" :reason="data.legal_hold" :leaves-at="data.leaves_at" />
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
@media (max-width: 900px) {
  .columns {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
