<script setup lang="ts">
// One draft of a plan, shown on several faces: the wave board with the score, a table, a file.
import { useQueryClient } from "@tanstack/vue-query";
import { computed, nextTick, ref, defineAsyncComponent } from "vue";
import { useRoute, useRouter } from "vue-router";
import { api, take } from "@/api/client";
import type { Member, Piece, Plan } from "@/api/types";
import CueDialog from "@/features/plans/CueDialog.vue";
import CueList from "@/features/plans/CueList.vue";
import EstateShelf from "@/features/plans/EstateShelf.vue";
import MemberInspector from "@/features/plans/MemberInspector.vue";
import PlanSettings from "@/features/plans/PlanSettings.vue";
import PlanTable from "@/features/plans/PlanTable.vue";
import SuggestDialog from "@/features/plans/SuggestDialog.vue";
import VersionList from "@/features/plans/VersionList.vue";
import WaveBoard from "@/features/plans/WaveBoard.vue";
import WaveInspector from "@/features/plans/WaveInspector.vue";
import { bringTo, find, moveTo, MOST_WAVES, type Owner, setAll, takeOut } from "@/features/plans/draft";
import { usePlanEditor } from "@/features/plans/editor";
import FindingList from "@/ui/FindingList.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import SiteWay from "@/ui/SiteWay.vue";
import { ago, chance, count, duration } from "@/ui/format";
import { useKeys } from "@/ui/keys";
import ScoreView from "@/ui/score/ScoreView.vue";
import PageSkeleton from "@/ui/PageSkeleton.vue";

// The editor of files, and what looks ahead, load when they are opened.
const PlanFileDrawer = defineAsyncComponent(() => import("@/features/plans/PlanFileDrawer.vue"));
const AheadDialog = defineAsyncComponent(() => import("@/features/plans/AheadDialog.vue"));
const RehearsalDialog = defineAsyncComponent(() => import("@/features/plans/RehearsalDialog.vue"));
const route = useRoute();
const router = useRouter();
const client = useQueryClient();
const code = computed(() => String(route.params.code));
const editor = usePlanEditor(code);
const { detail, error, draft, plan, assessment, reckoning, problem, stale, saving, said } = editor;
const selected = ref<string[]>(typeof route.query.select === "string" ? [route.query.select] : []);
const wave = ref<number | null>(null);
const face = ref<"board" | "table">("board");
const shelf = ref(-1);
const filing = ref(false);
const suggesting = ref(false);
const settings = ref(false);
const publishing = ref(false);
const ahead = ref(false);
const rehearsing = ref(false);
const summary = ref("");
const cueOf = ref<Owner | null>(null);
const cueId = ref<string | null>(null);

/** How many waves of parts come before the plan's own. */
const first = computed(() => assessment.value?.own_from ?? 0);
const order = computed(() => plan.value?.waves.flatMap((one) => one.members.map((member) => member.workload)) ?? []);
const troubled = computed(() => assessment.value?.findings.filter((one) => one.severity === "blocks").map((one) => one.subject) ?? []);
const dependencies = computed<[string, string][]>(() => {
  const found: [string, string][] = [];
  for (const name of selected.value) {
    for (const one of plan.value?.waves ?? []) {
      for (const member of one.members) {
        if (member.workload === name) found.push(...member.depends_on.map((d): [string, string] => [d, name]));
        else if (member.depends_on.includes(name)) found.push([name, member.workload]);
      }
    }
  }
  return found;
});

function pick(workload: string, event: MouseEvent | KeyboardEvent) {
  wave.value = null;
  if (event.shiftKey && selected.value.length) {
    const [a, b] = [order.value.indexOf(selected.value.at(-1) ?? ""), order.value.indexOf(workload)].sort((m, n) => m - n);
    const range = order.value.slice(a, (b ?? 0) + 1);
    selected.value = [...new Set([...selected.value, ...range])];
  } else if (event.ctrlKey || event.metaKey) {
    selected.value = selected.value.includes(workload) ? selected.value.filter((name) => name !== workload) : [...selected.value, workload];
  } else selected.value = selected.value.length === 1 && selected.value[0] === workload ? [] : [workload];
}
function lasso(names: string[], more: boolean) {
  wave.value = null;
  selected.value = more ? [...new Set([...selected.value, ...names])] : names;
}
function pickWave(index: number) {
  selected.value = [];
  wave.value = index < 0 || wave.value === index ? null : index;
}
function move(names: string[], to: number) {
  if (to >= 0 && to < MOST_WAVES) draft.edit((next) => moveTo(next, names, to));
}
function bring(names: string[], to: number) {
  if (to < MOST_WAVES) draft.edit((next) => bringTo(next, names, to));
}
function shift(by: number) {
  const waves = selected.value.map((name) => (plan.value ? (find(plan.value, name)?.[0] ?? 0) : 0));
  const to = by < 0 ? Math.min(...waves) - 1 : Math.max(...waves) + 1;
  if (selected.value.length && to >= 0) move(selected.value, to);
}
function walk(by: number, more = false) {
  const at = order.value.indexOf(selected.value.at(-1) ?? "");
  const next = order.value[Math.min(Math.max(at + by, 0), order.value.length - 1)];
  if (!next) return;
  selected.value = more ? [...selected.value.filter((name) => name !== next), next] : [next];
  wave.value = null;
  void nextTick(() => document.querySelector(`[data-workload="${CSS.escape(next)}"]`)?.scrollIntoView({ block: "nearest" }));
}
function set(field: keyof Member, value: Member[keyof Member]) {
  draft.edit((next) => setAll(next, selected.value, field, value));
}
function depend(workload: string, on: string) {
  draft.edit((next) => {
    const found = find(next, workload);
    if (found && !found[1].depends_on.includes(on)) found[1].depends_on.push(on);
  });
  selected.value = [workload];
}
function remove() {
  draft.edit((next) => takeOut(next, selected.value));
  selected.value = [];
}
function add(names: string[], to: number) {
  bring(names, to);
  selected.value = names;
}
function accept(pieces: Piece[]) {
  draft.edit((next) => {
    for (const one of pieces) {
      if (one.kind === "wave") moveTo(next, [one.workload], one.wave);
      else find(next, one.workload)?.[1].depends_on.push(one.on);
    }
  });
}
function openCue(owner: Owner, id: string | null) {
  [cueOf.value, cueId.value] = [owner, id];
}
function newCueHere() {
  const only = selected.value.length === 1 ? selected.value[0] : undefined;
  if (only) openCue({ kind: "member", workload: only }, null);
  else openCue(wave.value === null ? { kind: "plan" } : { kind: "wave", wave: wave.value }, null);
}
async function focus(id: string) {
  await nextTick();
  document.querySelector<HTMLElement>(`#${id}, #${id} input`)?.focus();
}
async function publish() {
  publishing.value = false;
  await editor.save(summary.value.trim());
  summary.value = "";
}
const retiring = ref(route.query.retire !== undefined);
async function retire() {
  problem.value = null;
  try {
    await take(api.DELETE("/api/v1/plans/{code}", { params: { path: { code: code.value } } }));
    await router.push("/");
    await client.invalidateQueries();
  } catch (caught) {
    problem.value = caught;
  }
}
const edit = (change: (plan: Plan) => void) => draft.edit(change);

useKeys([
  { keys: ["ArrowRight"], label: "Selection to the next wave", run: () => shift(1) },
  { keys: ["ArrowLeft"], label: "Selection to the wave before", run: () => shift(-1) },
  { keys: ["ArrowDown"], label: "Next workload", run: () => walk(1) },
  { keys: ["ArrowUp"], label: "Workload before", run: () => walk(-1) },
  { keys: ["Shift+ArrowDown"], label: "Next workload as well", run: () => walk(1, true) },
  { keys: ["Shift+ArrowUp"], label: "Workload before as well", run: () => walk(-1, true) },
  ...Array.from({ length: 9 }, (_, i) => ({
    keys: [String(i + 1)],
    label: `Selection to wave ${i + 1}`,
    run: () => selected.value.length > 0 && i <= (plan.value?.waves.length ?? 0) && move(selected.value, i),
  })),
  { keys: ["D"], label: "Boot delay", run: () => void focus("boot-delay") },
  { keys: ["L"], label: "Dependency", run: () => void focus("waits-for") },
  { keys: ["C"], label: "A cue at the selection", run: newCueHere },
  { keys: ["A"], label: "Add workloads", run: () => (shelf.value = Math.max((plan.value?.waves.length ?? 1) - 1, 0)) },
  { keys: ["T"], label: "Board or table", run: () => (face.value = face.value === "board" ? "table" : "board") },
  { keys: ["O"], label: "Objectives, parts and notes", run: () => (settings.value = true) },
  { keys: ["Delete", "Backspace"], label: "Take out of the plan", run: remove },
  { keys: ["Escape"], label: "Select nothing", run: () => ((selected.value = []), (wave.value = null)) },
  { keys: ["F"], label: "The plan as a file", run: () => (filing.value = true) },
  { keys: ["W"], label: "What if, and what would help", run: () => (ahead.value = true) },
  { keys: ["R"], label: "Rehearse it in virtual time", run: () => (rehearsing.value = true) },
  { keys: ["S"], label: "Suggest what it lacks", run: () => (suggesting.value = true) },
  { keys: ["Ctrl+Z"], label: "Undo", run: () => draft.undo() },
  { keys: ["Ctrl+Shift+Z"], label: "Redo", run: () => draft.redo() },
  { keys: ["Ctrl+S"], label: "Save as a new version", run: () => void editor.save("") },
]);
</script>

<template>
  <div class="page">
    <ProblemNote v-if="error && !plan" :error="error" />
    <PageSkeleton v-if="!error && !(plan && detail && (assessment || problem))" :heading="3" :blocks="[24, 250, 420]" />
    <template v-else-if="plan && detail">
      <div class="top">
        <div>
          <h1 class="sentence">
            <template v-if="assessment?.forecast">
              {{ plan.name }} would be back in <b>{{ duration(assessment.forecast.p50_s) }}</b> ({{ Math.round(assessment.forecast.p10_s / 60) }} to
              {{ Math.round(assessment.forecast.p95_s / 60) }} min), <b>{{ chance(assessment.forecast.chance) }}</b> likely inside its
              {{ duration(assessment.forecast.objective_s) }}. {{ assessment.forecast.decides }} decides the time.
            </template>
            <template v-else-if="assessment">{{ plan.name }} could not run as it stands. Its findings say why.</template>
            <template v-else>{{ plan.name }}</template>
          </h1>
          <p v-if="draft.elsewhere.value" class="bad" role="status">
            ▲ This plan is open in another tab of this browser as well. What you change here lasts as long as this tab, and saving says what the other one saved.
          </p>
          <p class="under" data-testid="draft">
            <template v-if="draft.changed.value">
              Draft on version {{ draft.basedOn.value }}: {{ assessment?.changes.join(", ") || "changed" }}.
              <button class="link" @click="editor.discard">Discard</button>
            </template>
            <template v-else>
              {{ said || `Version ${detail.version}, saved by ${detail.versions[0]?.author} ${ago(detail.versions[0]?.saved_at ?? "")}: ${detail.versions[0]?.summary}` }}
            </template>
          </p>
        </div>
        <div class="buttons">
          <el-button class="btn" :disabled="!draft.canUndo.value" title="Ctrl+Z" @click="draft.undo">Undo</el-button>
          <el-button class="btn" :disabled="!draft.canRedo.value" title="Ctrl+Shift+Z" @click="draft.redo">Redo</el-button>
          <el-button class="btn" :disabled="!draft.changed.value || saving" title="Ctrl+S saves with the changes as summary" @click="publishing = true">
            Save version {{ draft.basedOn.value + 1 }}
          </el-button>
          <el-button class="btn" title="S" @click="suggesting = true">Suggest …</el-button>
          <el-button class="btn" title="F" @click="filing = true">File</el-button>
          <RouterLink class="btn" :to="`/plans/${code}/landings`">Landings</RouterLink>
          <RouterLink class="btn main" :to="`/plans/${code}/start`">Start a test …</RouterLink>
        </div>
      </div>
      <ProblemNote v-if="problem" :error="problem" />

      <div class="columns">
        <div class="work" :aria-busy="reckoning">
          <p class="counts">
            <span>
              {{ count(order.length, "workload") }}, {{ count(plan.waves.length, "wave") }}<template v-if="plan.parts.length">, after {{ count(plan.parts.length, "part") }}</template>,
              <SiteWay :source="plan.source" :target="plan.target" />
            </span>
            <span class="faces" role="tablist" aria-label="Faces of the plan">
              <button role="tab" class="link" :aria-selected="face === 'board'" @click="face = 'board'">Board and score</button>
              <button role="tab" class="link" :aria-selected="face === 'table'" title="T" @click="face = 'table'">Table</button>
            </span>
          </p>
          <EstateShelf v-if="shelf >= 0" :key="shelf" :plan="plan" :first="first" :wave="shelf" @add="add" @close="shelf = -1" />
          <PlanTable v-if="face === 'table'" :plan="plan" :first="first" :selected="selected" @edit="edit" @pick="(name) => ((selected = [name]), (wave = null))" />
          <template v-else>
            <WaveBoard
              :plan="plan"
              :first="first"
              :parts="assessment?.waves.slice(0, first) ?? []"
              :selected="selected"
              :wave="wave"
              :troubled="troubled"
              :dependencies="dependencies"
              @pick="pick"
              @bring="bring"
              @depend="depend"
              @wave="pickWave"
              @cue="openCue"
              @add="shelf = $event"
              @lasso="lasso"
              @rename="(index, name) => edit((next) => { const one = next.waves[index]; if (one && name.trim()) one.name = name.trim(); })"
            />
            <ScoreView
              v-if="assessment?.steps.length"
              :steps="assessment.steps"
              :waves="assessment.waves"
              :objective="plan.rto_s"
              :selected="selected"
              :dependencies="dependencies"
              :likely="assessment.forecast?.p50_s ?? null"
              max-height="72vh"
              editable
              @pick="pick"
              @delay="(workload, seconds) => edit((next) => setAll(next, [workload], 'delay_s', seconds))"
            />
            <p v-else-if="assessment" class="under">The score comes back when what blocks the plan is mended.</p>
          </template>
        </div>
        <aside>
          <WaveInspector v-if="wave !== null" :plan="plan" :wave="wave" :first="first" @edit="edit" @cue="openCue" @go="(to) => (wave = to < 0 ? null : to)" />
          <MemberInspector v-else :plan="plan" :first="first" :selected="selected" @move="move" @set="set" @remove="remove" @cue="openCue" @edit="edit" />
          <h2>Findings</h2>
          <FindingList v-if="assessment?.findings.length" :findings="assessment.findings" mendable @mend="editor.mend" />
          <p v-else-if="assessment" class="quiet">Nothing was noticed.</p>
          <h2>The plan as a whole</h2>
          <p class="quiet">Back within {{ duration(plan.rto_s) }}, losing at most {{ duration(plan.rpo_s) }}<template v-if="plan.owner">, {{ plan.owner }}</template>. <button class="link" title="O" @click="settings = true">Objectives, parts, notes …</button></p>
          <CueList :plan="plan" :owner="{ kind: 'plan' }" what="everything" @open="openCue" @edit="edit" />
          <h2>Looking ahead</h2>
          <p class="links">
            <button class="link" title="W" @click="ahead = true">What if, and what would help …</button>
            <button class="link" title="R" @click="rehearsing = true">Rehearse it, with a fault if you like …</button>
            <span>Run book of version {{ detail.version }}: <a :href="`/api/v1/plans/${code}/run-book`" target="_blank">page</a>, <a :href="`/api/v1/plans/${code}/run-book.pdf`" download>PDF</a></span>
          </p>
          <h2>Versions</h2>
          <VersionList :detail="detail" @restore="(old) => edit((next) => Object.assign(next, old))" />
          <button class="link retire" @click="retiring = true">Retire the plan</button>
        </aside>
      </div>

      <SuggestDialog v-model="suggesting" :plan="plan" @accept="accept" />
      <PlanFileDrawer v-if="filing" v-model="filing" :plan="plan" :title="`${plan.name} as a file`" @take="(read) => edit((next) => Object.assign(next, read))" />
      <PlanSettings v-model="settings" :plan="plan" @edit="edit" />
      <AheadDialog v-if="ahead" v-model="ahead" :plan="plan" :based-on="draft.basedOn.value" :saved="detail.plan" @take="(better) => edit((next) => Object.assign(next, better))" />
      <RehearsalDialog v-if="rehearsing" v-model="rehearsing" :plan="plan" />
      <CueDialog :id="cueId" :plan="plan" :owner="cueOf" @close="cueOf = null" @edit="edit" />
      <el-dialog v-model="publishing" :title="`Save version ${draft.basedOn.value + 1}`" width="min(520px, 94vw)">
        <ul class="changes"><li v-for="one in assessment?.changes ?? []" :key="one">{{ one }}</li></ul>
        <el-form-item class="form" label="Why, for those who read it later"><el-input v-model="summary" class="entry" maxlength="400" placeholder="the changes themselves, if you say nothing" @keydown.enter="publish" /></el-form-item>
        <template #footer>
          <el-button class="btn" @click="publishing = false">Not yet</el-button>
          <el-button class="btn main" :disabled="saving" @click="publish">Save it</el-button>
        </template>
      </el-dialog>
      <el-dialog v-model="retiring" :title="`Retire ${plan.name}?`" width="min(520px, 94vw)">
        <p>It goes with its {{ count(detail.version, "version") }}; its drills begin no more, and its runs keep what they ran. It can be brought back under <RouterLink to="/settings/retired">Settings</RouterLink>.</p>
        <ProblemNote v-if="problem" :error="problem" />
        <template #footer>
          <el-button class="btn" @click="retiring = false">Keep it</el-button>
          <el-button class="btn danger" @click="retire">Retire it</el-button>
        </template>
      </el-dialog>
      <el-dialog :model-value="!!stale" title="Somebody saved in between" width="min(520px, 94vw)" @close="stale = null">
        <p>{{ stale?.detail }}</p>
        <p class="under">Your draft is kept. Nothing was saved.</p>
        <template #footer>
          <el-button class="btn" @click="stale = null">Leave my draft as it is</el-button>
          <el-button class="btn main" @click="editor.takeTheirs">Take their changes into my draft</el-button>
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
  display: flex;
  justify-content: space-between;
  color: var(--ink-2);
  border-bottom: 1px solid var(--rule);
  padding-bottom: 4px;
  margin-bottom: var(--gap-2);
}
.faces {
  display: flex;
  gap: var(--gap-3);
}
.faces [aria-selected="true"] {
  color: var(--ink-1);
  font-weight: 700;
  border-bottom: 2px solid var(--brass);
}
.links > * {
  display: block;
  margin-bottom: 3px;
}
.changes {
  max-height: 220px;
  overflow: auto;
  margin-bottom: var(--gap-3);
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
aside > :first-child :deep(h2),
aside > h2:first-child {
  margin-top: 0;
}
@media (max-width: 900px) {
  .top,
  .columns {
    flex-direction: column;
  }
  aside {
    width: 100%;
    border-left: 0;
    padding-left: 0;
  }
}
</style>
