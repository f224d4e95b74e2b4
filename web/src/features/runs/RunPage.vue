<script setup lang="ts">
import { useQueryClient } from "@tanstack/vue-query";
import { computed, onScopeDispose, ref, watch } from "vue";
import { useRoute } from "vue-router";
import { api, take } from "@/api/client";
import { useRunTraps } from "@/api/queries";
import { useRunStream } from "@/api/runStream";
import type { ScoreStep } from "@/api/types";
import CopiesState from "@/features/runs/CopiesState.vue";
import NeedCard from "@/features/runs/NeedCard.vue";
import OutageList from "@/features/runs/OutageList.vue";
import StepDrawer from "@/features/runs/StepDrawer.vue";
import { calls, switchCalls } from "@/ui/calls";
import KnownTraps from "@/ui/KnownTraps.vue";
import ProbeList from "@/ui/ProbeList.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { against, clock, count, duration, list, moment } from "@/ui/format";
import { useKeys } from "@/ui/keys";
import { things } from "@/ui/traps";
import { headline } from "@/ui/waiting";
import ScoreView from "@/ui/score/ScoreView.vue";

const route = useRoute();
const id = computed(() => Number(route.params.id));
const { status, steps, events, lost, receivedAt } = useRunStream(id);
const client = useQueryClient();
// When it ends, what other pages say of it is old at once.
watch(
  () => status.value?.outcome,
  () => void client.invalidateQueries(),
);
const open = ref("");
const aborting = ref(false);
const reason = ref("");
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
const ready = computed(() => status.value?.ready_s ?? null);
const shownClock = computed(() => ready.value ?? runS.value);
const barEnd = computed(() => Math.max(status.value?.rto_objective_s ?? 1, status.value?.expected_ready_s ?? 0, shownClock.value));
const percent = (s: number) => `${Math.min((s / barEnd.value) * 100, 100)}%`;

const isTest = computed(() => status.value?.kind === "test");
const isLive = computed(() => status.value?.kind === "planned" || status.value?.kind === "disaster");
const failures = computed(() => (status.value?.needs ?? []).filter((need) => need.kind === "failure").length);
const waiting = computed(() => steps.value.filter((step) => step.status === "asked").slice(0, 7));
const shownEvents = computed(() => (wholeLog.value ? [...events.value].reverse() : events.value.slice(-6).reverse()));

async function tell(kind: string, text = "") {
  error.value = null;
  try {
    await take(
      api.POST("/api/v1/runs/{id}/controls", {
        params: { path: { id: id.value }, header: { "Idempotency-Key": crypto.randomUUID() } },
        body: { kind, text },
      }),
    );
    // The answer to another command leaves the dialog as it is.
    if (kind === "abort") aborting.value = false;
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
    window.location.reload();
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
        <h1 class="sentence">
          <span v-if="first" class="waits" data-testid="waits">{{ headline(first, wall) }}.</span>
          <span :class="`kind-${status.kind}`">{{ status.kind }}</span> {{ status.lead }}
          <template v-if="failures"><b class="bad">{{ count(failures, "step") }} failed and waits for you.</b></template>
          <template v-else-if="status.phase === 'bring-up'">
            <b>{{ status.copies_ready }} of {{ status.copies }}</b> are ready, and it should finish in about
            <b>{{ duration(Math.max(status.expected_ready_s - runS, 0)) }}</b
            >.
          </template>
          <template v-else-if="ready !== null && status.outcome !== 'rolled back'">
            {{ isLive ? "Recovered in" : "Everything was up in" }} <b>{{ clock(ready) }}</b>, {{ against(ready, status.rto_objective_s) }}.
          </template>
          <template v-if="status.remains && status.outcome && isTest">{{ status.remains.length ? `Left behind: ${list(status.remains)}.` : "Nothing is left behind." }}</template>
        </h1>
        <p class="under">
          {{ status.under }}
          <template v-if="status.notes">Notes: “{{ status.notes }}”</template>
        </p>
        <p v-if="lost" class="warning" role="status">◌ No connection. What you see may be old; it catches up by itself.</p>
        <div v-if="status.put_aside" class="warning" role="alert" aria-label="Put aside">
          ✕ Nobody conducts this run: it went wrong here, and was put aside so that the others go on. {{ status.put_aside }}
          <p><el-button class="btn" @click="tryAgain">Try again</el-button></p>
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
        <section class="log">
          <h2>Log <button class="link" @click="wholeLog = !wholeLog">{{ wholeLog ? "latest only" : `all ${events.length}` }}</button></h2>
          <ol>
            <li v-for="event in shownEvents" :key="event.seq">
              <span class="mono quiet" :title="moment(event.at, true)">{{ clock(event.run_s) }}</span>
              <span>{{ event.sentence }}</span>
            </li>
          </ol>
        </section>
      </div>

      <aside>
        <p class="time">
          <span class="clock mono" data-testid="run-time">{{ clock(shownClock, true) }}</span>
          <span v-if="status.kind !== 're-protect'" class="mono quiet">of {{ clock(status.rto_objective_s) }}</span>
        </p>
        <div v-if="status.kind !== 're-protect'" class="gauge" role="img" :aria-label="`${duration(shownClock)} of ${duration(status.rto_objective_s)}`">
          <i class="gone" :style="{ width: percent(shownClock) }" :class="{ late: shownClock > status.rto_objective_s }" />
          <i v-if="ready === null" class="likely" :style="{ left: percent(status.expected_ready_s) }" />
        </div>
        <p class="quiet">
          <template v-if="status.outcome && ready === null">{{ status.kind === "re-protect" ? "it took that long" : "it never came up" }}</template>
          <template v-else-if="ready === null">likely ready at {{ clock(status.expected_ready_s) }}</template>
          <template v-else>all checks through at {{ clock(ready) }}</template>
          <template v-if="status.added_s !== null && status.added_s >= 1">, {{ duration(status.added_s) }} of it Maestoso's own</template>
          <template v-if="status.people_s >= 1">, {{ duration(status.people_s) }} waiting for people</template>
        </p>

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
        <section v-if="waiting.length">
          <h2>Now</h2>
          <ul class="now">
            <li v-for="step in waiting" :key="step.id">
              <button class="link" @click="open = step.id">
                <span class="mono">{{ step.workload ?? step.id.split(":")[1] ?? "site" }}</span>
              </button>
              {{ status.lost_sites[step.site ?? ""] ? "unreachable" : step.title.toLowerCase() }}
              <p v-for="trap in trapsAt(step)" :key="trap.id" class="trap">⚑ {{ trap.text }}</p>
            </li>
          </ul>
        </section>
        <section aria-label="Known traps">
          <h2>Known traps</h2>
          <KnownTraps :traps="traps ?? []" :things="about" :run="status.id" />
        </section>
        <section v-if="status.found_running.length" class="warning" role="alert" aria-label="Found running">
          <b>✕ Two live copies:</b> {{ list(status.found_running) }} also ran at {{ status.source_name }} until the fence was delivered. Look
          at what was written there.
          <p><el-button class="btn" @click="sawThem">I have looked at it</el-button></p>
        </section>
        <section v-if="status.remains && isTest">
          <h2>Leak check</h2>
          <p data-testid="leak-check">
            {{ status.remains.length ? `✕ Left at ${status.target_name}: ${list(status.remains)}.` : `✓ Nothing of the test is left at ${status.target_name}.` }}
          </p>
        </section>
        <p v-if="error"><ProblemNote :error="error" /></p>
        <div v-if="!status.outcome" class="buttons">
          <el-button v-if="mayHold" class="btn" @click="tell('hold')">Hold all</el-button>
          <el-button v-if="mayAbort" class="btn danger" @click="aborting = true">Abort …</el-button>
        </div>
        <p v-if="!status.outcome" class="calls">
          <el-checkbox :model-value="calls" @update:model-value="switchCalls">Call me, by sound and notification, when it needs somebody</el-checkbox>
        </p>
        <section>
          <h2>Facts</h2>
          <dl>
            <template v-if="status.outcome">
              <dt>Evidence</dt>
              <dd><RouterLink :to="`/runs/${status.id}/evidence`">Report, seal and notes</RouterLink></dd>
            </template>
            <dt>Landings</dt>
            <dd><RouterLink :to="`/runs/${status.id}/landings`">Planned and actual addresses</RouterLink></dd>
            <dt>Run</dt>
            <dd>{{ status.id }}, version {{ status.plan_version }} of <RouterLink :to="`/plans/${status.plan}`">{{ status.plan }}</RouterLink></dd>
            <dt>Started</dt>
            <dd>{{ moment(status.started_at) }} by {{ status.started_by }}</dd>
            <dt>Pace</dt>
            <dd>{{ status.pace }}</dd>
            <dt>Points</dt>
            <dd v-if="status.kind === 're-protect'">differences only</dd>
            <dd v-else><div v-for="group in status.groups" :key="group.group">{{ group.group }} {{ group.at ? moment(group.at, true) : "newest" }}</div></dd>
          </dl>
        </section>
      </aside>

      <StepDrawer v-model="open" :steps="steps" :events="events" :run="status.id" :traps="trapsAt(steps.find((step) => step.id === open))" />
      <el-dialog v-model="aborting" title="Abort the run?" width="min(460px, 94vw)">
        <p>
          Nothing new is started. {{ count(waiting.length, "step is", "steps are") }} under way and will be let finish. From here:
          <b>{{ status.abort_does }}</b> You can start again afterwards.
        </p>
        <p><el-input v-model="reason" placeholder="Reason (kept in the log)" aria-label="Reason" maxlength="300" /></p>
        <template #footer>
          <el-button class="btn" @click="aborting = false">Let it run</el-button>
          <el-button class="btn danger" @click="tell('abort', reason)">{{ isTest ? "Abort and clean up" : "Abort and take it back" }}</el-button>
        </template>
      </el-dialog>
    </template>
  </div>
</template>

<style scoped>
.trap {
  border-left: 3px solid var(--brass);
  padding-left: 8px;
}
.run {
  display: grid;
  grid-template: "head side" auto "main side" 1fr / minmax(0, 1fr) 276px;
  column-gap: var(--gap-5);
}
.head {
  grid-area: head;
}
.waits {
  display: block;
  font-weight: 700;
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
.time {
  display: flex;
  justify-content: space-between;
  align-items: baseline;
}
.clock {
  font-size: var(--text-clock);
  line-height: 1.15;
}
.gauge {
  position: relative;
  height: 9px;
  background: var(--rule);
  margin: 4px 0;
}
.gauge i {
  position: absolute;
  top: 0;
  height: 100%;
}
.gone {
  background: var(--ink-1);
}
.gone.late {
  background: var(--disaster);
}
.likely {
  width: 6px;
  margin-left: -3px;
  background: var(--brass);
}
.now li {
  padding: 2px 0;
}
.buttons {
  display: flex;
  gap: var(--gap-2);
  margin-top: var(--gap-4);
}
.calls {
  margin-top: var(--gap-2);
}
.calls .el-checkbox {
  height: auto;
}
.log {
  margin-top: var(--gap-3);
}
.log li {
  display: grid;
  grid-template-columns: 76px 1fr;
  padding: 2px 0;
}
dl {
  display: grid;
  grid-template-columns: 62px 1fr;
  gap: 2px 6px;
  margin: 4px 0;
}
dt {
  color: var(--ink-2);
}
dd {
  margin: 0;
}
@media (max-width: 900px) {
  .run {
    grid-template: "head" auto "side" auto "main" auto / minmax(0, 1fr);
    row-gap: var(--gap-3);
  }
}
</style>
