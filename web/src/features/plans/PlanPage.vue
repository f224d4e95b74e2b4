<script setup lang="ts">
// One draft of a plan, shown on several faces: the wave board with the score, a table, a file.
import { computed, nextTick, ref, defineAsyncComponent } from "vue";
import { useRoute } from "vue-router";
import type { Piece, Plan } from "@/api/types";
import CueDialog from "@/features/plans/CueDialog.vue";
import CueList from "@/features/plans/CueList.vue";
import EstateShelf from "@/features/plans/EstateShelf.vue";
import MemberInspector from "@/features/plans/MemberInspector.vue";
import PlanHeader from "@/features/plans/PlanHeader.vue";
import PlanSettings from "@/features/plans/PlanSettings.vue";
import PlanTable from "@/features/plans/PlanTable.vue";
import PublishDialog from "@/features/plans/PublishDialog.vue";
import RetireDialog from "@/features/plans/RetireDialog.vue";
import StaleDialog from "@/features/plans/StaleDialog.vue";
import SuggestDialog from "@/features/plans/SuggestDialog.vue";
import VersionList from "@/features/plans/VersionList.vue";
import WaveBoard from "@/features/plans/WaveBoard.vue";
import WaveInspector from "@/features/plans/WaveInspector.vue";
import { find, moveTo, type Owner, setAll } from "@/features/plans/draft";
import { usePlanEditor } from "@/features/plans/editor";
import { usePlanSelection } from "@/features/plans/planSelection";
import FileButton from "@/ui/FileButton.vue";
import FindingList from "@/ui/FindingList.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import SiteWay from "@/ui/SiteWay.vue";
import { count, duration } from "@/ui/format";
import { useKeys } from "@/ui/keys";
import ScoreView from "@/ui/score/ScoreView.vue";
import PageSkeleton from "@/ui/PageSkeleton.vue";

// The editor of files, and what looks ahead, load when they are opened.
const PlanFileDrawer = defineAsyncComponent(() => import("@/features/plans/PlanFileDrawer.vue"));
const AheadDialog = defineAsyncComponent(() => import("@/features/plans/AheadDialog.vue"));
const RehearsalDialog = defineAsyncComponent(() => import("@/features/plans/RehearsalDialog.vue"));
const route = useRoute();
const code = computed(() => String(route.params.code));
const editor = usePlanEditor(code);
const { detail, error, draft, plan, assessment, reckoning, problem, stale, saving } = editor;
const { selected, wave, order, dependencies, pick, lasso, pickWave, move, bring, shift, walk, set, depend, remove, add, none } = usePlanSelection(plan, draft, typeof route.query.select === "string" ? [route.query.select] : []);
const face = ref<"board" | "table">("board");
const shelf = ref(-1);
const filing = ref(false);
const suggesting = ref(false);
const settings = ref(false);
const publishing = ref(false);
const ahead = ref(false);
const rehearsing = ref(false);
const cueOf = ref<Owner | null>(null);
const cueId = ref<string | null>(null);

/** How many waves of parts come before the plan's own. */
const first = computed(() => assessment.value?.own_from ?? 0);
const troubled = computed(() => assessment.value?.findings.filter((one) => one.severity === "blocks").map((one) => one.subject) ?? []);
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
const retiring = ref(route.query.retire !== undefined);
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
  { keys: ["Delete", "Backspace"], label: "Remove from the plan", run: remove },
  { keys: ["Escape"], label: "Select nothing", run: none },
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
      <PlanHeader :editor="editor" :plan="plan" :detail="detail" @save="publishing = true" @suggest="suggesting = true" @file="filing = true" />
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
              v-bind="{ plan, first, selected, wave, troubled, dependencies }"
              :parts="assessment?.waves.slice(0, first) ?? []"
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
              :forecast="assessment.steps"
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
            <p v-else-if="assessment" class="under">The score comes back when what blocks the plan is fixed.</p>
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
            <span>Run book of version {{ detail.version }}: <a :href="`/api/v1/plans/${code}/run-book`" target="_blank">page</a>, <FileButton :path="`/api/v1/plans/${code}/run-book.pdf`" link>PDF</FileButton></span>
          </p>
          <h2>Versions</h2>
          <VersionList :detail="detail" @restore="(old) => edit((next) => Object.assign(next, old))" />
          <button v-may="'change-plans'" class="link retire" @click="retiring = true">Retire the plan</button>
        </aside>
      </div>

      <SuggestDialog v-model="suggesting" :plan="plan" @accept="accept" />
      <PlanFileDrawer v-if="filing" v-model="filing" :plan="plan" :title="`${plan.name} as a file`" @take="(read) => edit((next) => Object.assign(next, read))" />
      <PlanSettings v-model="settings" :plan="plan" @edit="edit" />
      <AheadDialog v-if="ahead" v-model="ahead" :plan="plan" :based-on="draft.basedOn.value" :saved="detail.plan" @take="(better) => edit((next) => Object.assign(next, better))" />
      <RehearsalDialog v-if="rehearsing" v-model="rehearsing" :plan="plan" />
      <CueDialog :id="cueId" :plan="plan" :owner="cueOf" @close="cueOf = null" @edit="edit" />
      <PublishDialog v-model="publishing" :version="draft.basedOn.value + 1" :changes="assessment?.changes ?? []" :saving="saving" @save="editor.save" />
      <RetireDialog v-model="retiring" :plan="plan" :versions="detail.version" />
      <StaleDialog v-model="stale" @take-theirs="editor.takeTheirs" />
    </template>
  </div>
</template>

<style scoped>
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
