<script setup lang="ts">
import { useQueryClient } from "@tanstack/vue-query";
import { computed, nextTick, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { ApiError, api, take } from "@/api/client";
import { usePlan, useWorkloads } from "@/api/queries";
import type { AssessmentView, Member, Piece, Plan, Problem } from "@/api/types";
import PlanFileDrawer from "@/features/plans/PlanFileDrawer.vue";
import SuggestDialog from "@/features/plans/SuggestDialog.vue";
import VersionList from "@/features/plans/VersionList.vue";
import MemberInspector from "@/features/plans/MemberInspector.vue";
import WaveBoard from "@/features/plans/WaveBoard.vue";
import { find, moveTo, newMember, setAll } from "@/features/plans/draft";
import FindingList from "@/ui/FindingList.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useDraft } from "@/ui/draft";
import { ago, chance, count, duration } from "@/ui/format";
import { useKeys } from "@/ui/keys";
import ScoreView from "@/ui/score/ScoreView.vue";

const route = useRoute();
const router = useRouter();
const client = useQueryClient();
const code = computed(() => String(route.params.code));
const { data: detail, error } = usePlan(code);
const saved = computed(() => detail.value && { value: detail.value.plan, version: detail.value.version });
const draft = useDraft(saved, (one) => one.code);
const plan = draft.value;
const selected = ref<string[]>(typeof route.query.select === "string" ? [route.query.select] : []);
const assessment = ref<AssessmentView | null>(null);
const saveError = ref<unknown>(null);
const stale = ref<Problem | null>(null);
const saving = ref(false);
const said = ref("");
const adding = ref(-1);
const toAdd = ref<string[]>([]);
const filing = ref(false);
const suggesting = ref(false);

// Judged again as one edits: a moment after the last change, the newest answer wins.
let asked = 0;
let timer = 0;
async function assess() {
  const current = plan.value;
  if (!current) return;
  asked += 1;
  const mine = asked;
  try {
    const answer = await take(
      api.POST("/api/v1/plans/{code}/assessment", {
        params: { path: { code: code.value } },
        body: { plan: current, based_on: draft.basedOn.value },
      }),
    );
    if (mine === asked) {
      assessment.value = answer;
      saveError.value = null;
    }
  } catch (problem) {
    if (mine === asked) saveError.value = problem;
  }
}
watch(
  plan,
  () => {
    window.clearTimeout(timer);
    timer = window.setTimeout(assess, assessment.value ? 120 : 0);
  },
  { immediate: true },
);

const order = computed(() => plan.value?.waves.flatMap((wave) => wave.members.map((member) => member.workload)) ?? []);
const troubled = computed(
  () => assessment.value?.findings.filter((one) => one.severity === "blocks").map((one) => one.subject) ?? [],
);
const dependencies = computed<[string, string][]>(() => {
  const found: [string, string][] = [];
  for (const name of selected.value) {
    for (const wave of plan.value?.waves ?? []) {
      for (const member of wave.members) {
        if (member.workload === name) found.push(...member.depends_on.map((d): [string, string] => [d, name]));
        else if (member.depends_on.includes(name)) found.push([name, member.workload]);
      }
    }
  }
  return found;
});
const sought = ref("");
const atSource = computed(() => `site:${plan.value?.source ?? ""} ${sought.value ? `"${sought.value.replaceAll('"', "")}"` : ""}`);
const { data: workloads } = useWorkloads(atSource, 200, computed(() => adding.value >= 0));
const free = computed(() => {
  const taken = new Set(order.value);
  return (workloads.value ?? []).filter((one) => !taken.has(one.name) && one.site === plan.value?.source);
});

function pick(workload: string, event: MouseEvent | KeyboardEvent) {
  if (event.shiftKey && selected.value.length) {
    const [a, b] = [order.value.indexOf(selected.value.at(-1) ?? ""), order.value.indexOf(workload)].sort((m, n) => m - n);
    const range = order.value.slice(a, (b ?? 0) + 1);
    selected.value = [...new Set([...selected.value, ...range])];
  } else if (event.ctrlKey || event.metaKey) {
    selected.value = selected.value.includes(workload)
      ? selected.value.filter((name) => name !== workload)
      : [...selected.value, workload];
  } else selected.value = selected.value.length === 1 && selected.value[0] === workload ? [] : [workload];
}

function move(names: string[], wave: number) {
  if (wave < 0 || wave > 19) return;
  draft.edit((next) => moveTo(next, names, wave));
}
function shift(by: number) {
  const waves = selected.value.map((name) => (plan.value ? (find(plan.value, name)?.[0] ?? 0) : 0));
  const to = by < 0 ? Math.min(...waves) - 1 : Math.max(...waves) + 1;
  if (selected.value.length && to >= 0) move(selected.value, to);
}
function walk(by: number) {
  const at = order.value.indexOf(selected.value.at(-1) ?? "");
  const next = order.value[Math.min(Math.max(at + by, 0), order.value.length - 1)];
  if (next) selected.value = [next];
}
function set(field: keyof Member, value: Member[keyof Member]) {
  draft.edit((next) => setAll(next, selected.value, field, value));
}
function remove() {
  draft.edit((next) => {
    for (const wave of next.waves) {
      wave.members = wave.members.filter((member) => !selected.value.includes(member.workload));
      for (const member of wave.members) member.depends_on = member.depends_on.filter((d) => !selected.value.includes(d));
    }
  });
  selected.value = [];
}
function add() {
  draft.edit((next) => next.waves[adding.value]?.members.push(...toAdd.value.map(newMember)));
  selected.value = toAdd.value;
  toAdd.value = [];
  adding.value = -1;
}
function accept(pieces: Piece[]) {
  draft.edit((next) => {
    for (const one of pieces) {
      if (one.kind === "wave") moveTo(next, [one.workload], one.wave);
      else find(next, one.workload)?.[1].depends_on.push(one.on);
    }
  });
}
async function focus(id: string) {
  await nextTick();
  document.querySelector<HTMLElement>(`#${id}, #${id} input`)?.focus();
}

async function save() {
  if (!plan.value || !draft.changed.value) return;
  saving.value = true;
  saveError.value = null;
  const sent = plan.value;
  try {
    const done = await take(
      api.PUT("/api/v1/plans/{code}", {
        params: { path: { code: code.value }, header: { "If-Match": `"${code.value}-${draft.basedOn.value}"` } },
        body: { plan: sent },
      }),
    );
    draft.settle(sent, done.version);
    said.value = `Saved as version ${done.version}: ${done.summary}.`;
    await client.invalidateQueries();
    await assess();
  } catch (problem) {
    if (problem instanceof ApiError && problem.problem.code === "stale") stale.value = problem.problem;
    else saveError.value = problem;
  } finally {
    saving.value = false;
  }
}
async function retire() {
  saveError.value = null;
  try {
    await take(api.DELETE("/api/v1/plans/{code}", { params: { path: { code: code.value } } }));
    await router.push("/");
    await client.invalidateQueries();
  } catch (problem) {
    saveError.value = problem;
  }
}
async function takeTheirs() {
  const theirs = await client.fetchQuery({
    queryKey: ["plan", code.value, "newest"],
    queryFn: () => take(api.GET("/api/v1/plans/{code}", { params: { path: { code: code.value } } })),
    staleTime: 0,
  });
  draft.rebase((stale.value?.merged ?? theirs.plan) as Plan, theirs.version, theirs.plan);
  stale.value = null;
  await client.invalidateQueries({ queryKey: ["plan", code.value] });
  await assess();
}
function discard() {
  if (detail.value) draft.settle(detail.value.plan, detail.value.version);
}

useKeys([
  { keys: ["ArrowRight"], label: "Selection to the next wave", run: () => shift(1) },
  { keys: ["ArrowLeft"], label: "Selection to the wave before", run: () => shift(-1) },
  { keys: ["ArrowDown"], label: "Next workload", run: () => walk(1) },
  { keys: ["ArrowUp"], label: "Workload before", run: () => walk(-1) },
  ...Array.from({ length: 9 }, (_, i) => ({
    keys: [String(i + 1)],
    label: `Selection to wave ${i + 1}`,
    run: () => selected.value.length > 0 && i <= (plan.value?.waves.length ?? 0) && move(selected.value, i),
  })),
  { keys: ["D"], label: "Boot delay", run: () => void focus("boot-delay") },
  { keys: ["L"], label: "Dependency", run: () => void focus("waits-for") },
  { keys: ["Delete", "Backspace"], label: "Take out of the plan", run: remove },
  { keys: ["Escape"], label: "Select nothing", run: () => (selected.value = []) },
  { keys: ["F"], label: "The plan as a file", run: () => (filing.value = true) },
  { keys: ["S"], label: "Suggest what it lacks", run: () => (suggesting.value = true) },
  { keys: ["Ctrl+Z"], label: "Undo", run: () => draft.undo() },
  { keys: ["Ctrl+Shift+Z"], label: "Redo", run: () => draft.redo() },
  { keys: ["Ctrl+S"], label: "Save as a new version", run: () => void save() },
]);
</script>

<template>
  <div class="page">
    <ProblemNote v-if="error && !plan" :error="error" />
    <template v-if="plan && detail">
      <div class="top">
        <div>
          <h1 class="sentence">
            <template v-if="assessment?.forecast">
              {{ plan.name }} would be back in <b>{{ duration(assessment.forecast.p50_s) }}</b> ({{
                Math.round(assessment.forecast.p10_s / 60)
              }}
              to {{ Math.round(assessment.forecast.p95_s / 60) }} min),
              <b>{{ chance(assessment.forecast.chance) }}</b> likely inside its
              {{ duration(assessment.forecast.objective_s) }}. {{ assessment.forecast.decides }} decides the time.
            </template>
            <template v-else-if="assessment">{{ plan.name }} could not run as it stands. Its findings say why.</template>
            <template v-else>{{ plan.name }}</template>
          </h1>
          <p class="under" data-testid="draft">
            <template v-if="draft.changed.value">
              Draft on version {{ draft.basedOn.value }}: {{ assessment?.changes.join(", ") || "changed" }}.
              <button class="link" @click="discard">Discard</button>
            </template>
            <template v-else>
              {{ said || `Version ${detail.version}, saved by ${detail.versions[0]?.author} ${ago(detail.versions[0]?.saved_at ?? "")}: ${detail.versions[0]?.summary}` }}
            </template>
          </p>
        </div>
        <div class="buttons">
          <button class="btn" :disabled="!draft.canUndo.value" title="Ctrl+Z" @click="draft.undo">Undo</button>
          <button class="btn" :disabled="!draft.canRedo.value" title="Ctrl+Shift+Z" @click="draft.redo">Redo</button>
          <button class="btn" :disabled="!draft.changed.value || saving" title="Ctrl+S" @click="save">
            Save version {{ draft.basedOn.value + 1 }}
          </button>
          <button class="btn" title="S" @click="suggesting = true">Suggest …</button>
          <button class="btn" title="F" @click="filing = true">File</button>
          <RouterLink class="btn" :to="`/plans/${code}/landings`">Landings</RouterLink>
          <RouterLink class="btn main" :to="`/plans/${code}/start`">Start a test …</RouterLink>
        </div>
      </div>
      <ProblemNote v-if="saveError" :error="saveError" />

      <div class="columns">
        <div class="work">
          <p class="counts">
            {{ count(order.length, "workload") }}, {{ count(plan.waves.length, "wave") }}, {{ plan.source }} → {{ plan.target }}
          </p>
          <WaveBoard
            :plan="plan"
            :selected="selected"
            :troubled="troubled"
            @pick="pick"
            @move="move"
            @add="adding = $event"
            @rename="(wave, name) => draft.edit((next) => { const one = next.waves[wave]; if (one && name.trim()) one.name = name.trim(); })"
            @remove="(wave) => draft.edit((next) => next.waves.splice(wave, 1))"
          />
          <ScoreView
            v-if="assessment?.steps.length"
            :steps="assessment.steps"
            :waves="plan.waves.map((wave) => wave.name)"
            :objective="plan.rto_s"
            :selected="selected"
            :dependencies="dependencies"
            :likely="assessment.forecast?.p50_s ?? null"
            @pick="pick"
          />
          <p v-else-if="assessment" class="under">The score comes back when what blocks the plan is mended.</p>
        </div>
        <aside>
          <MemberInspector :plan="plan" :selected="selected" @move="move" @set="set" @remove="remove" />
          <h2>Findings</h2>
          <FindingList v-if="assessment?.findings.length" :findings="assessment.findings" />
          <p v-else-if="assessment" class="quiet">Nothing was noticed.</p>
          <h2>Versions</h2>
          <VersionList :detail="detail" @restore="(old) => draft.edit((next) => Object.assign(next, old))" />
          <el-popconfirm :title="`Forget ${plan.name} with all its versions? Its runs keep what they ran.`" confirm-button-text="Retire it" cancel-button-text="No" width="280" @confirm="retire">
            <template #reference><button class="link retire">Retire the plan</button></template>
          </el-popconfirm>
        </aside>
      </div>

      <SuggestDialog v-model="suggesting" :plan="plan" @accept="accept" />
      <PlanFileDrawer v-model="filing" :plan="plan" :title="`${plan.name} as a file`" @take="(read) => draft.edit((next) => Object.assign(next, read))" />
      <el-dialog :model-value="adding >= 0" title="Add workloads" width="460" @close="adding = -1">
        <el-select v-model="toAdd" multiple filterable remote :remote-method="(text: string) => (sought = text)" placeholder="Choose workloads" aria-label="Workloads to add">
          <el-option v-for="one in free" :key="one.name" :value="one.name" :label="one.group ? one.name : `${one.name} (protected by nobody)`" />
        </el-select>
        <template #footer>
          <button class="btn" @click="adding = -1">Cancel</button>
          <button class="btn main" :disabled="!toAdd.length" @click="add">Add {{ count(toAdd.length, "workload") }}</button>
        </template>
      </el-dialog>
      <el-dialog :model-value="!!stale" title="Somebody saved in between" width="520" @close="stale = null">
        <p>{{ stale?.detail }}</p>
        <p class="under">Your draft is kept. Nothing was saved.</p>
        <template #footer>
          <button class="btn" @click="stale = null">Leave my draft as it is</button>
          <button class="btn main" @click="takeTheirs">Take their changes into my draft</button>
        </template>
      </el-dialog>
    </template>
  </div>
</template>

<style scoped>
.top {
  display: flex;
  justify-content: space-between;
  gap: var(--gap-4);
}
.buttons {
  display: flex;
  gap: var(--gap-2);
  flex: none;
  flex-wrap: wrap;
  justify-content: flex-end;
  align-content: flex-start;
  max-width: 470px;
}
.columns {
  display: flex;
  gap: var(--gap-4);
  margin-top: var(--gap-3);
}
.work {
  flex: 1;
  min-width: 0;
}
.counts {
  color: var(--ink-2);
  border-bottom: 1px solid var(--rule);
  padding-bottom: 4px;
  margin-bottom: var(--gap-2);
}
aside {
  width: 272px;
  flex: none;
  border-left: 1px solid var(--rule);
  padding-left: var(--gap-4);
}
.retire {
  margin-top: var(--gap-3);
}
aside h2 {
  margin: var(--gap-4) 0 var(--gap-2);
}
@media (max-width: 900px) {
  .top,
  .columns {
    flex-direction: column;
  }
  .buttons {
    flex-wrap: wrap;
  }
  aside {
    width: 100%;
    border-left: 0;
    padding-left: 0;
  }
}
</style>
