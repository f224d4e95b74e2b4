<script setup lang="ts">
import { useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref, watch, defineAsyncComponent } from "vue";
import { useRoute, useRouter } from "vue-router";
import { api, take } from "@/api/client";
import { usePlan } from "@/api/queries";
import type { RecoveryPoint, RunKind, RunOptions } from "@/api/types";
import GroupPointsChoice from "@/features/runs/GroupPointsChoice.vue";
import LiveOptions, { type LiveChoices } from "@/features/runs/LiveOptions.vue";
import KnownTraps from "@/ui/KnownTraps.vue";
import MarkdownText from "@/ui/MarkdownText.vue";
import PageSkeleton from "@/ui/PageSkeleton.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAct } from "@/ui/act";
import { chance, clock, count, duration, moment } from "@/ui/format";
import { useKeys } from "@/ui/keys";
import { outcomeShapes } from "@/ui/outcomes";

const PointTimeline = defineAsyncComponent(() => import("@/ui/PointTimeline.vue"));
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
const { data: points, error: pointsError } = useQuery({
  queryKey: ["points", code],
  queryFn: () => take(api.GET("/api/v1/plans/{code}/points", { params: { path: { code: code.value } } })),
  // A group that runs away has no points at its target, and whoever copies it back needs none.
  enabled: computed(() => takesPoints.value),
  refetchOnWindowFocus: false,
  staleTime: Infinity,
});
const live = computed(() => kind.value === "planned" || kind.value === "disaster");
const picked = ref<number | null>(null);
const own = ref<Record<string, string>>({});
const single = ref<Record<string, string>>({});
const tell = ref<string[]>([]);
const probe = ref<string[]>([]);
const cleanUp = ref(true);
const hours = ref(4);
const pace = ref(0);
const choices = ref<LiveChoices>({ close_down: true, go_on: true, decide_within_s: 0, then: "roll-back", at_commit: "nothing", declared_at: null, acknowledged: false, force_after_s: null });
const confirm = ref("");
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
      group.points.find((point) => point.id === own.value[group.group]) ?? group.points.findLast((point) => ms(point) <= at.value) ?? group.points[0],
    ]),
  ),
);
const later = computed(() =>
  (points.value?.groups ?? []).filter((group) => {
    const point = chosen.value[group.group];
    return point && ms(point) > at.value;
  }),
);
const apart = computed(() => Object.keys(own.value).length > 0);
const options = computed<RunOptions>(() => ({
  kind: kind.value,
  points: takesPoints.value
    ? Object.fromEntries(Object.entries(chosen.value).flatMap(([group, point]) => (point ? [[group, point.id]] : [])))
    : {},
  apart: takesPoints.value ? single.value : {},
  tell: tell.value,
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

const hint = computed(() => {
  for (const group of points.value?.groups ?? []) {
    const point = group.points.find((candidate) => candidate.id === group.hint);
    if (point) return { group: group.name, point };
  }
  return null;
});
const forecast = computed(() => preflight.value?.assessment.forecast);
const worst = computed(() => {
  const apart = (points.value?.groups ?? []).flatMap((group) => group.points.filter((point) => Object.values(single.value).includes(point.id)));
  const ages = [...Object.values(chosen.value), ...apart].flatMap((point) => (point ? [(now.value - ms(point)) / 1000] : []));
  return ages.length ? Math.max(...ages) : null;
});
const shapes: Record<string, string> = { blocks: "■", warns: "▲", note: "●" };
const shown = computed(() => {
  const found = preflight.value?.assessment.findings ?? [];
  return found.flatMap((finding) => {
    const severity = live.value && finding.live !== "same" ? finding.live : finding.severity;
    return severity === "none" ? [] : [{ ...finding, severity }];
  });
});
// Encrypted copies need their key; it is stored with the group, so it is asked for once.
const locked = computed(() => shown.value.filter((finding) => finding.code === "key-missing").map((finding) => finding.subject));
const secret = ref<Record<string, string>>({});
const { problem: keyProblem, act } = useAct();
async function storeKey(group: string) {
  await act(() => take(api.PUT("/api/v1/groups/{code}/key", { params: { path: { code: group } }, body: { key: secret.value[group] ?? "" } })));
  secret.value = {};
}
const warned = computed(() => shown.value.filter((finding) => finding.severity === "warns").length);
const reason = ref("");
const confirmed = computed(() => !live.value || confirm.value.trim() === code.value);
const mayStart = computed(() => !starting.value && !!preflight.value && !preflight.value.blocking.length && confirmed.value);
const inShort: Record<RunKind, string> = {
  test: "Production is not touched.",
  planned: "Services stop until they are up at the other site; no data is lost.",
  disaster: "Production comes up at the other site for real; what is newer than the chosen points is lost.",
  "re-protect": "Services go on; only what differs is copied.",
};
const presses: Record<RunKind, string> = { test: "Start the test", planned: "Start the planned failover", disaster: "Start the disaster failover", "re-protect": "Start the re-protect" };
const kindWords: Record<RunKind, string> = { test: "isolated test", planned: "planned failover", disaster: "disaster failover", "re-protect": "re-protect" };
/** What is offered is known before anything is asked; what is in its way comes with the preflight. */
const KINDS: { kind: RunKind; title: string; sentence: string; why_not: string }[] = [
  { kind: "test", title: "Try it out", sentence: "in a sandbox; production is not touched", why_not: "" },
  { kind: "planned", title: "Move it", sentence: "no data loss: a final sync runs after the source is shut down", why_not: "" },
  { kind: "disaster", title: "The source is lost", sentence: "bring it up from the copies; what is newer than they are is lost", why_not: "" },
  { kind: "re-protect", title: "Copy it back", sentence: "only what differs; services go on running", why_not: "" },
];
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
      <div class="kinds" role="radiogroup" aria-label="What shall happen?">
        <button
          v-for="offered in preflight?.kinds ?? KINDS"
          :key="offered.kind"
          role="radio"
          :aria-checked="kind === offered.kind"
          :title="offered.why_not"
          :class="['kind', offered.kind, { on: kind === offered.kind }]"
          @click="kind = offered.kind"
        >
          <strong>{{ offered.title }}</strong>
          <span>{{ offered.sentence }}</span>
          <small>{{ kindWords[offered.kind] }}<template v-if="offered.why_not">, not now</template></small>
        </button>
      </div>
      <PageSkeleton v-if="!begun" :heading="0" :blocks="[84, 300, 240]" />
      <template v-else>
        <section :class="['consequences', kind]">
          <p v-for="sentence in preflight?.consequences ?? []" :key="sentence">{{ sentence }}</p>
        </section>

        <section v-if="points && (kind === 'test' || kind === 'disaster')">
          <h2>
            From which moment?
            <span class="plain">{{ apart ? "Groups of different moments." : points.groups.length === 1 ? "One group, one moment." : `One moment for all ${points.groups.length} groups.` }}</span>
            <template v-if="hint">
              <span class="plain bad">▲ Unusual changes on {{ hint.group }}.</span>
              <button class="link" @click="picked = ms(hint.point)">
                Take {{ moment(hint.point.at, true) }}, the newest point before them
              </button>
            </template>
            <button v-if="picked !== null || apart" class="link" @click="(picked = null), (own = {}), (single = {})">Take the newest</button>
          </h2>
          <div v-if="takesPoints" class="timeline"><PointTimeline :groups="points.groups" :now="points.now" :at="at" :newest="picked === null" :chosen="chosen" @pick="(picked = $event), (own = {})" /></div>
          <GroupPointsChoice v-if="takesPoints" v-model="own" v-model:apart="single" :groups="points.groups" :chosen="chosen" />
          <p v-if="!takesPoints" class="under">The latest changes are copied first, so the copies are of the moment when that is done.</p>
          <p v-if="apart && takesPoints" class="bad">▲ What these groups wrote to each other between the moments may not fit together.</p>
          <p v-if="later.length && takesPoints" class="bad">
            {{ later.map((group) => group.name).join(" and ") }} has no point so old; its oldest is taken, which is later than the rest.
          </p>
        </section>

        <div class="three">
          <section>
            <h2>Before it may start</h2>
            <ul v-if="preflight" class="checks">
              <li v-for="finding in shown" :key="finding.sentence" :class="finding.severity">
                <span aria-hidden="true">{{ shapes[finding.severity] }}</span> {{ finding.sentence }}
                <RouterLink v-if="finding.mend" :to="`/plans/${code}`" class="link">{{ finding.mend }}</RouterLink>
              </li>
              <li v-if="!preflight.blocking.length"><span aria-hidden="true">✓</span> Nothing blocks it.</li>
            </ul>
            <label v-if="preflight && !preflight.blocking.length && warned" class="reason">
              Why in spite of {{ count(warned, "warning") }}? <span class="quiet">kept in the evidence</span>
              <el-input v-model="reason" maxlength="500" aria-label="Why in spite of the warnings" />
            </label>
            <form v-for="group in locked" :key="group" class="key" @submit.prevent="storeKey(group)">
              <el-form-item :label="`Key of the copies of ${group}`"><el-input v-model="secret[group]" type="password" autocomplete="off" maxlength="4096" :aria-label="`Key of ${group}`" /></el-form-item>
              <el-button class="btn" :disabled="!secret[group]" native-type="submit">Store it</el-button>
              <span class="quiet">asked once; it is encrypted and never shown</span>
            </form>
            <ProblemNote v-if="keyProblem" :error="keyProblem" />
            <ProblemNote v-if="preflightError" :error="preflightError" />
            <template v-if="preflight?.traps.length">
              <h2>Known traps</h2>
              <KnownTraps :traps="preflight.traps" :things="[]" />
            </template>
            <template v-if="preflight?.notes.length">
              <h2>Noted in earlier runs</h2>
              <details v-for="one in preflight.notes" :key="one.run" class="noted">
                <summary>{{ outcomeShapes[one.outcome] ?? "" }} Run {{ one.run }}, {{ one.kind }}, {{ moment(one.ended_at) }}: {{ one.notes[0] }}</summary>
                <MarkdownText v-for="text in one.notes" :key="text" :text="text" />
                <RouterLink :to="`/runs/${one.run}/evidence`">Its evidence</RouterLink>
              </details>
            </template>
          </section>
          <section>
            <h2>Choices</h2>
            <template v-if="kind === 'test'">
              <p><el-checkbox v-model="syncFirst">Copy the latest changes first</el-checkbox></p>
              <p class="choice">
                <el-checkbox v-model="cleanUp">Clean up by itself after</el-checkbox>
                <el-input-number v-model="hours" :min="0.25" :max="168" :step="1" size="small" :disabled="!cleanUp" aria-label="Hours until cleanup" />
                h
              </p>
            </template>
            <p v-if="kind === 'test' && preflight?.services.length" class="choice">
              Probe all the time
              <el-select v-model="probe" multiple filterable collapse-tags size="small" class="tell" placeholder="no service" aria-label="Services probed all the time" default-first-option>
                <el-option v-for="one in preflight.services" :key="`${one.service} ${one.workload}`" :value="JSON.stringify(one)" :label="`${one.service} of ${one.workload}`" />
              </el-select>
            </p>
            <LiveOptions v-if="live && preflight" v-model="choices" :kind="kind" :source="preflight.source_name" :source-lost="preflight.source_lost" />
            <p v-if="preflight?.people.length" class="choice">
              Tell
              <el-select v-model="tell" multiple collapse-tags size="small" class="tell" placeholder="nobody" aria-label="Who is told of it" filterable default-first-option>
                <el-option v-for="name in preflight.people" :key="name" :value="name" :label="name" />
              </el-select>
            </p>
            <p v-if="preflight?.practice" class="choice">
              Pace
              <el-input-number v-model="pace" :min="1" :max="1000" :precision="0" size="small" aria-label="Pace" />
              times real speed
            </p>
          </section>
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
      <section :class="['bar', kind]" aria-label="Start" data-over>
        <p v-if="preflight?.blocking.length" class="bad what">It cannot start now: {{ preflight.blocking[0]?.sentence }}</p>
        <p v-else class="what">{{ inShort[kind] }}</p>
        <label v-if="live" class="confirm">
          Type <b class="mono">{{ code }}</b> to confirm
          <el-input v-model="confirm" :placeholder="code" aria-label="The plan's code, to confirm" maxlength="12" />
        </label>
        <el-button :class="['btn', kind]" :disabled="!mayStart" @click="start">{{ presses[kind] }}</el-button>
        <kbd>Ctrl ↵</kbd>
        <ProblemNote v-if="startError" :error="startError" />
      </section>
    </template>
  </div>
</template>

<style scoped>
.noted summary {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  cursor: pointer;
}
.noted[open] summary {
  white-space: normal;
}
h1 {
  min-height: 59px;
}
.timeline {
  min-height: 256px;
}
.kinds {
  min-height: 105px;
  display: grid;
  grid-template-columns: repeat(4, minmax(0, 1fr));
  gap: var(--gap-3);
  margin: var(--gap-3) 0 0;
}
.kind {
  text-align: left;
  background: var(--sheet);
  border: 2px solid var(--rule);
  border-radius: var(--radius);
  padding: var(--gap-2) var(--gap-3);
  font: inherit;
  color: var(--ink-1);
  cursor: pointer;
  display: flex;
  flex-direction: column;
  gap: 2px;
}
.kind strong {
  font-family: var(--serif);
  font-size: var(--text-l);
  color: var(--own);
}
.kind small {
  color: var(--ink-2);
  margin-top: auto;
}
.kind.on,
.consequences {
  border: 2px solid var(--own);
  background: var(--own-soft);
}
.kind.test.on,
.consequences.test {
  border-style: dashed;
}
.kind.disaster.on,
.consequences.disaster {
  border: 4px double var(--own);
}
.test {
  --own: var(--test);
  --own-soft: var(--test-soft);
}
.planned,
.re-protect {
  --own: var(--planned);
  --own-soft: var(--planned-soft);
}
.disaster {
  --own: var(--disaster);
  --own-soft: var(--disaster-soft);
}
.consequences {
  border-radius: var(--radius);
  padding: var(--gap-2) var(--gap-4);
  margin: var(--gap-3) 0;
}
.confirm {
  display: block;
  margin-top: var(--gap-3);
}
h2 {
  margin: var(--gap-2) 0;
  color: var(--ink-1);
}
h2 .plain {
  font-weight: 400;
  margin-right: 6px;
}
h2 .link {
  font-weight: 600;
  margin-left: 6px;
}
.three {
  display: grid;
  grid-template-columns: minmax(0, 1.2fr) minmax(0, 1fr) minmax(0, 0.8fr);
  gap: var(--gap-5);
  margin-top: var(--gap-2);
}
.checks li {
  margin-bottom: 5px;
}
.checks .link {
  text-decoration: underline;
}
.checks .blocks {
  color: var(--disaster);
}
.tell {
  width: 180px;
}
.key {
  border-left: 5px double var(--brass);
  padding-left: var(--gap-2);
  margin: var(--gap-2) 0;
}
.reason {
  display: block;
  margin-top: var(--gap-2);
}
.choice {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 6px;
  margin: 5px 0;
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
  .three,
  .kinds {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
