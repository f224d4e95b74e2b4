<script setup lang="ts">
import { useQueryClient } from "@tanstack/vue-query";
import { computed, onScopeDispose, ref, watch } from "vue";
import { useRoute } from "vue-router";
import { api, take } from "@/api/client";
import { useRunTraps } from "@/api/queries";
import { useRunStream } from "@/api/runStream";
import type { ScoreStep } from "@/api/types";
import AbortDialog from "@/features/runs/AbortDialog.vue";
import CopiesState from "@/features/runs/CopiesState.vue";
import EmergencyNote from "@/features/runs/EmergencyNote.vue";
import NeedCard from "@/features/runs/NeedCard.vue";
import OutageList from "@/features/runs/OutageList.vue";
import RunClock from "@/features/runs/RunClock.vue";
import RunFacts from "@/features/runs/RunFacts.vue";
import RunLog from "@/features/runs/RunLog.vue";
import RunNow from "@/features/runs/RunNow.vue";
import RunSentence from "@/features/runs/RunSentence.vue";
import StepDrawer from "@/features/runs/StepDrawer.vue";
import { useSeen } from "@/features/runs/seen";
import { tellRun } from "@/features/runs/tellRun";
import { calls, switchCalls } from "@/ui/calls";
import KnownTraps from "@/ui/KnownTraps.vue";
import ProbeList from "@/ui/ProbeList.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { list, moment } from "@/ui/format";
import { useKeys } from "@/ui/keys";
import { things } from "@/ui/traps";
import ScoreView from "@/ui/score/ScoreView.vue";

const route = useRoute();
const id = computed(() => Number(route.params.id));
const { status, steps, events, lost, receivedAt, reload } = useRunStream(id);
useSeen(id, status);
const client = useQueryClient();
// When it ends, what other pages say of it is old at once.
watch(
  () => status.value?.outcome,
  () => void client.invalidateQueries(),
);
const open = ref("");
const aborting = ref(false);
const error = ref<unknown>(null);
const wholeLog = ref(false);

// Between messages the clock goes on by itself, at pace while machines work.
const tick = ref(performance.now());
// Once a second: each time the whole score is drawn.
const beat = window.setInterval(() => (tick.value = performance.now()), 1000);
onScopeDispose(() => window.clearInterval(beat));
const runS = computed(() => {
  const now = status.value;
  if (!now) return 0;
  if (now.outcome || lost.value) return now.run_s;
  const wall = Math.max(tick.value - receivedAt.value, 0) / 1000;
  return now.run_s + wall * (now.machine_busy ? now.pace : 1);
});

const wall = computed(() => (tick.value, Date.now()));
const first = computed(() => status.value?.needs[0]);

const isTest = computed(() => status.value?.kind === "test");
const isLive = computed(() => status.value?.kind === "planned" || status.value?.kind === "disaster");
const waiting = computed(() => steps.value.filter((step) => step.status === "asked").slice(0, 7));

async function tell(kind: "hold" | "resume") {
  error.value = null;
  try {
    await tellRun(id.value, { kind });
  } catch (problem) {
    error.value = problem;
  }
}
async function tryAgain() {
  error.value = null;
  try {
    await take(api.POST("/api/v1/runs/{id}/try-again", { params: { path: { id: id.value } } }));
  } catch (problem) {
    error.value = problem;
  }
}
async function sawThem() {
  error.value = null;
  try {
    await take(api.POST("/api/v1/runs/{id}/found-running/seen", { params: { path: { id: id.value } } }));
    reload();
  } catch (problem) {
    error.value = problem;
  }
}
// What is known to go wrong stands at its step while that is under way.
const { data: traps } = useRunTraps(id);
/** Of the machine that a step is about, or of the group that it copies or promotes. */
function trapsAt(step: ScoreStep | undefined) {
  const subject = step?.id.split(":")[1];
  return (traps.value ?? []).filter((trap) => !trap.solved_at && (trap.about === "workload" ? trap.name === step?.workload : trap.about === "group" && trap.name === subject));
}
const about = computed(() => {
  const workloads = [...new Set(steps.value.flatMap((step) => (step.workload ? [step.workload] : [])))];
  return status.value ? things(status.value.plan, status.value.groups.map((group) => group.group), workloads) : [];
});
const mayHold = computed(() => !!status.value && !status.value.outcome && status.value.held_because === null);
const mayAbort = computed(
  () =>
    !!status.value && !status.value.outcome && status.value.aborted_because === null && !status.value.verdict && !status.value.decision &&
    // Then rolling back means the same, and says so.
    first.value?.kind !== "decision",
);
/** Nothing that moves production is done by one key. */
const mine = (event: KeyboardEvent) => event.shiftKey || isTest.value;
useKeys([
  { keys: ["Shift+H", "H"], label: "Hold all, or let it go on (in a test without Shift)", run: (event) => mine(event) && void tell(mayHold.value ? "hold" : "resume") },
  { keys: ["Shift+A", "A"], label: "Abort … (in a test without Shift)", run: (event) => mine(event) && mayAbort.value && (aborting.value = true) },
  { keys: ["G"], label: "Whole log", run: () => (wholeLog.value = !wholeLog.value) },
]);
</script>

<template>
  <div class="page run">
    <p v-if="!status && !lost" class="quiet">Reading the log of run {{ id }} …</p>
    <p v-if="lost && !status" class="quiet">Run {{ id }} cannot be read now. See the <RouterLink to="/runs">list of runs</RouterLink>.</p>
    <template v-if="status">
      <div class="head">
        <RunSentence :status="status" :run-s="runS" :wall="wall" />
        <p class="under">
          {{ status.under }}
          <template v-if="status.notes">Notes: “{{ status.notes }}”</template>
        </p>
        <EmergencyNote v-if="status.emergency" :status="status" @reviewed="reload" />
        <p v-if="lost" class="warning" role="status">◌ No connection. What you see may be old; it catches up by itself.</p>
        <div v-if="status.put_aside" class="warning" role="alert" aria-label="Put aside">
          ✕ This run stands still: the engine met an error in it and put it aside, so that other runs continue. {{ status.put_aside }}
          <p><el-button v-may="'answer'" class="btn" @click="tryAgain">Try again</el-button></p>
        </div>
        <p v-for="said in status.notices" :key="said" class="warning" role="alert">✕ {{ said }}</p>
      </div>
      <div class="main">
        <ScoreView
          :steps="steps"
          :waves="status.waves"
          :objective="status.rto_objective_s"
          :now="runS"
          :ended="!!status.outcome"
          :lost="Object.keys(status.lost_sites)"
          max-height="62vh"
          @step="open = $event"
          @pick="(workload) => (open = steps.find((one) => one.workload === workload)?.id ?? '')"
        />
        <RunLog v-model:whole="wholeLog" :events="events" />
      </div>

      <aside>
        <!-- Above all that grows and shrinks while a run goes on: they must not move away from whoever reaches for them. -->
        <div v-if="!status.outcome" class="buttons">
          <el-button v-if="mayHold" v-may="isTest ? 'run-tests' : 'run-live'" class="btn" @click="tell('hold')">Hold all</el-button>
          <el-button v-if="mayAbort" v-may="isTest ? 'run-tests' : 'run-live'" class="btn danger" @click="aborting = true">Abort …</el-button>
        </div>
        <p v-if="error"><ProblemNote :error="error" /></p>
        <RunClock :status="status" :run-s="runS" />

        <section v-if="status.needs.length" aria-label="Needs you">
          <h2>Needs you</h2>
          <NeedCard v-for="need in status.needs" :key="need.kind + need.step" :need="need" :run="status.id" :plan="status.plan" :kind="status.kind" :about="about" />
          <p v-if="status.cleanup_at && status.phase === 'judge'" class="quiet">
            Without an answer it is cleaned up by itself at {{ moment(status.cleanup_at) }}.
          </p>
        </section>
        <CopiesState v-if="!isTest" :status="status" />
        <ProbeList v-if="status.probes.length" :probes="status.probes" />
        <OutageList v-if="isLive" :outages="status.outages" :run-s="runS" :ended="!!status.outcome" />
        <RunNow :steps="waiting" :lost-sites="status.lost_sites" :under-way="status.under_way" :traps-at="trapsAt" @open="open = $event" />
        <section aria-label="Known traps">
          <h2>Known traps</h2>
          <KnownTraps :traps="traps ?? []" :things="about" :run="status.id" />
        </section>
        <section v-if="status.found_running.length" class="warning" role="alert" aria-label="Found running">
          <b>✕ Two live copies:</b> {{ list(status.found_running) }} also ran at {{ status.source_name }} until the fence was delivered. Look
          at what was written there.
          <p><el-button v-may="'answer'" class="btn" @click="sawThem">Acknowledge</el-button></p>
        </section>
        <section v-if="status.remains && isTest">
          <h2>Leak check</h2>
          <p data-testid="leak-check">
            {{ status.remains.length ? `✕ Left at ${status.target_name}: ${list(status.remains)}.` : `✓ Nothing of the test is left at ${status.target_name}.` }}
          </p>
        </section>
        <p v-if="!status.outcome" class="calls">
          <el-checkbox :model-value="calls" @update:model-value="switchCalls">Alert me, by sound and notification, when it needs somebody</el-checkbox>
        </p>
        <RunFacts :status="status" />
      </aside>

      <StepDrawer v-model="open" :steps="steps" :events="events" :run="status.id" :traps="trapsAt(steps.find((step) => step.id === open))" />
      <AbortDialog v-model="aborting" :run="status.id" :is-test="isTest" :does="status.abort_does" :under-way="waiting.length" />
    </template>
  </div>
</template>

<style scoped>
.run {
  display: grid;
  grid-template: "head side" auto "main side" 1fr / minmax(0, 1fr) 276px;
  column-gap: var(--gap-5);
}
.head {
  grid-area: head;
}
.main {
  grid-area: main;
  min-width: 0;
}
aside {
  grid-area: side;
}
aside section {
  margin-top: var(--gap-4);
}
.warning {
  border-left: 6px double var(--disaster);
  background: var(--disaster-soft);
  padding: 6px 12px;
  margin: 8px 0;
}
.buttons {
  display: flex;
  gap: var(--gap-2);
  margin-bottom: var(--gap-3);
}
.calls {
  margin-top: var(--gap-2);
}
.calls .el-checkbox {
  height: auto;
}
@media (max-width: 900px) {
  .run {
    grid-template: "head" auto "side" auto "main" auto / minmax(0, 1fr);
    row-gap: var(--gap-3);
  }
}
</style>
