<script setup lang="ts">
import { useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { ApiError, api, sentenceOf, take } from "@/api/client";
import type { Crosswalk, LandingRow, OneWay, Proposal } from "@/api/types";
import DoorTable from "@/features/crosswalks/DoorTable.vue";
import ExceptionDrawer from "@/features/crosswalks/ExceptionDrawer.vue";
import HeldTable from "@/features/crosswalks/HeldTable.vue";
import MatchDialog from "@/features/crosswalks/MatchDialog.vue";
import RuleTable from "@/features/crosswalks/RuleTable.vue";
import TableFile from "@/features/crosswalks/TableFile.vue";
import ThreadBoard from "@/features/crosswalks/ThreadBoard.vue";
import TwinDialog from "@/features/crosswalks/TwinDialog.vue";
import { KINDS, type Kind, accept, join, sideOf, threadsOf, unjoin } from "@/features/crosswalks/edit";
import { useJudgedLandings } from "@/features/crosswalks/judged";
import { crosswalkSentence, sourceItems, targetItems } from "@/features/crosswalks/sides";
import FindingList from "@/ui/FindingList.vue";
import LandingTable from "@/ui/LandingTable.vue";
import PageTabs from "@/ui/PageTabs.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useDraft } from "@/ui/draft";
import { count, list } from "@/ui/format";
import { useKeys } from "@/ui/keys";
import PageSkeleton from "@/ui/PageSkeleton.vue";

const route = useRoute();
const router = useRouter();
const client = useQueryClient();
const source = computed(() => String(route.params.source));
const target = computed(() => String(route.params.target));
const load = () => take(api.GET("/api/v1/crosswalks/{source}/{target}", { params: { path: { source: source.value, target: target.value } } }));
const { data: detail, error } = useQuery({ queryKey: ["crosswalk", source, target], queryFn: load, refetchOnWindowFocus: false });
const saved = computed(() => detail.value && { value: detail.value.crosswalk, version: detail.value.revision });
const draft = useDraft<Crosswalk>(saved, (one) => `crosswalk.${one.source}.${one.target}`);
const crosswalk = draft.value;

const tab = computed({
  get: () => String(route.query.tab ?? "map"),
  set: (key: string) => void router.replace({ query: { ...route.query, tab: key } }),
});
/** So many rows are shown at most. */
const LONGEST = 500;
const filter = ref(typeof route.query.filter === "string" ? route.query.filter : "");
const onlyFindings = ref(false);
const { landings, error: judgeError } = useJudgedLandings(crosswalk, filter, onlyFindings, LONGEST);
const saveError = ref<unknown>(null);
/** Judging the draft and saving it often find the same thing, which is said once. */
const judgeAlone = computed(() => judgeError.value && !(saveError.value && sentenceOf(saveError.value) === sentenceOf(judgeError.value)));
const said = ref("");
const matching = ref(false);
const show = ref<{ kind: Kind; name: string } | null>(null);
const openKey = ref("");
const lost = ref<OneWay[] | null>(null);

const names = computed(() => ({ from: detail.value?.source_name ?? source.value, to: detail.value?.target_name ?? target.value }));
const sentence = computed(() => crosswalkSentence(crosswalk.value, landings.value, names.value));
const shownUnmapped = computed(() => (landings.value?.unmapped ?? []).slice(0, 12));
const rulesMissing = computed(() => (landings.value?.unmapped ?? []).filter((one) => one.kind === "address rule").map((one) => one.name));
const beside = computed(() => (landings.value?.findings ?? []).map((one) => one.finding));
const openRow = computed(() => landings.value?.rows.find((row) => `${row.workload}/${row.nic}` === openKey.value) ?? null);

function joined(kind: Kind, sources: string[], to: string) {
  if (!detail.value) return;
  const side = sideOf(detail.value, kind, to);
  let left: string[] = [];
  draft.edit((next) => (left = join(next, kind, sources, to, side)));
  said.value = left.length ? `${list(left)} must have a network to go to live, before it can have one for tests.` : "";
}
function taken(proposals: Proposal[]) {
  draft.edit((next) => proposals.forEach((one) => accept(next, one)));
}
function goTo(kind: string, name: string) {
  tab.value = kind === "address rule" ? "rules" : "map";
  if (kind !== "address rule") show.value = { kind: kind as Kind, name };
}
async function save() {
  const sent = crosswalk.value;
  if (!sent || !draft.changed.value) return;
  saveError.value = null;
  try {
    const params = { path: { source: source.value, target: target.value }, header: { "If-Match": `"${draft.basedOn.value}"` } };
    const done = await take(draft.basedOn.value ? api.PUT("/api/v1/crosswalks/{source}/{target}", { params, body: sent }) : api.POST("/api/v1/crosswalks", { body: sent }));
    draft.settle(sent, done.revision);
    said.value = "Saved. Plans and held landings follow it from now on.";
    await client.invalidateQueries();
  } catch (caught) {
    saveError.value = caught;
  }
}
async function reload() {
  const now = await client.fetchQuery({ queryKey: ["crosswalk", source.value, target.value, "newest"], queryFn: load, staleTime: 0 });
  draft.settle(now.crosswalk, now.revision);
  saveError.value = null;
  await client.invalidateQueries();
}
const stale = computed(() => saveError.value instanceof ApiError && saveError.value.problem.code === "stale");
const discard = () => detail.value && draft.settle(detail.value.crosswalk, detail.value.revision);
async function twin() {
  saveError.value = null;
  try {
    const params = { path: { source: source.value, target: target.value } };
    lost.value = (await take(api.POST("/api/v1/crosswalks/{source}/{target}/twin", { params }))).one_way;
    await client.invalidateQueries();
  } catch (caught) {
    saveError.value = caught;
  }
}
const tabs = computed(() => [
  { key: "map", name: "Map", mark: landings.value?.unmapped.some((one) => one.kind !== "address rule") ? "▲" : "" },
  { key: "rules", name: "Address rules", mark: rulesMissing.value.length ? "▲" : "" },
  { key: "doors", name: "Front doors", mark: landings.value?.doors.some((one) => !one.live) ? "▲" : "" },
  { key: "landings", name: "Before and after", mark: landings.value?.blocks ? "■" : "" },
  { key: "held", name: `Held at ${names.value.to}` },
]);
useKeys([
  { keys: ["M"], label: "Match what is alike", run: () => (matching.value = true) },
  { keys: ["Ctrl+Z"], label: "Undo", run: () => draft.undo() },
  { keys: ["Ctrl+Shift+Z"], label: "Redo", run: () => draft.redo() },
  { keys: ["Ctrl+S"], label: "Save", run: () => void save() },
  ...tabs.value.map((one, index) => ({ keys: [String(index + 1)], label: one.name, run: () => (tab.value = one.key) })),
]);
</script>

<template>
  <div class="page">
    <ProblemNote v-if="error && !crosswalk" :error="error" />
    <PageSkeleton v-if="!error && !(crosswalk && detail && (landings || judgeError))" :heading="2" :blocks="[24, 40, 480]" />
    <template v-else-if="crosswalk && detail">
      <div class="top">
        <div>
          <h1 class="sentence">{{ sentence }}</h1>
          <p class="under" data-testid="draft">
            <template v-if="draft.changed.value">{{ draft.basedOn.value ? "Changed, not saved." : "Not made yet." }} {{ said }} <button class="link" @click="discard">Discard the changes</button></template>
            <template v-else>{{ said || (detail.plans.length ? `${list(detail.plans)} land${detail.plans.length === 1 ? "s" : ""} by it.` : "No plan lands by it yet.") }}</template>
          </p>
        </div>
        <div class="buttons">
          <el-button class="btn" :disabled="!draft.canUndo.value" title="Ctrl+Z" @click="draft.undo">Undo</el-button>
          <el-button class="btn" :disabled="!draft.canRedo.value" title="Ctrl+Shift+Z" @click="draft.redo">Redo</el-button>
          <el-button class="btn" title="M" @click="matching = true">Match …</el-button>
          <RouterLink v-if="detail.has_twin" class="btn" :to="`/crosswalks/${target}/${source}`">Reverse crosswalk</RouterLink>
          <el-button v-else-if="detail.revision" v-may="'change-crosswalks'" class="btn" :disabled="draft.changed.value" :title="draft.changed.value ? 'Save first' : ''" @click="twin">Make the reverse crosswalk</el-button>
          <el-button v-may="'change-crosswalks'" class="btn main" :disabled="!draft.changed.value" title="Ctrl+S" @click="save">{{ draft.basedOn.value ? "Save" : "Make it" }}</el-button>
        </div>
      </div>
      <ProblemNote v-if="saveError" :error="saveError" />
      <p v-if="stale"><el-button class="btn" @click="reload">Reload, and lose my changes</el-button></p>
      <ProblemNote v-if="judgeAlone" :error="judgeError" />
      <p v-if="shownUnmapped.length" class="missing" data-testid="unmapped">
        <b class="brass">▲ Not mapped:</b>
        <button v-for="one in shownUnmapped" :key="one.kind + one.name" class="chip" @click="goTo(one.kind, one.name)">{{ one.kind }} <b class="mono">{{ one.name }}</b>, {{ count(one.workloads, "workload") }}</button>
        <span v-if="(landings?.unmapped.length ?? 0) > shownUnmapped.length" class="quiet">and {{ (landings?.unmapped.length ?? 0) - shownUnmapped.length }} more</span>
      </p>
      <PageTabs v-model="tab" :tabs="tabs" label="Crosswalk" />

      <div v-if="tab === 'map'">
        <p class="quiet">Drag from left to right, or select on the left and click on the right. By keyboard: space selects, Enter goes over and joins, Delete unmaps. <span class="livethread">live</span> <span class="testthread">in a test</span></p>
        <ThreadBoard
          v-for="kind in KINDS"
          :key="kind"
          v-bind="{ kind, left: sourceItems(detail, kind) }"
          :right="targetItems(detail, kind, landings)"
          :threads="threadsOf(crosswalk, kind)"
          :show="show?.kind === kind ? show.name : ''"
          @join="(sources, to) => joined(kind, sources, to)"
          @unjoin="(sources) => draft.edit((next) => unjoin(next, kind, sources))"
        />
      </div>
      <div v-else-if="tab === 'rules'">
        <RuleTable :crosswalk="crosswalk" :missing="rulesMissing" @edit="draft.edit" />
        <TableFile :crosswalk="crosswalk" @edit="draft.edit" />
      </div>
      <DoorTable v-else-if="tab === 'doors'" :crosswalk="crosswalk" :detail="detail" @edit="draft.edit" />
      <div v-else-if="tab === 'landings' && landings">
        <FindingList v-if="beside.length" :findings="beside" compact />
        <p class="bar">
          <el-input v-model.lazy="filter" class="entry mono wide" aria-label="Filter" placeholder="tag:app=booking nic:10.20.0.0/16" />
          <el-checkbox v-model="onlyFindings">only what has findings</el-checkbox>
          <span class="quiet">{{ count(landings.matched, "adapter") }}<template v-if="landings.matched > LONGEST">, the first {{ LONGEST }} are shown</template></span>
          <a v-if="detail.revision" class="btn" :href="`/api/v1/crosswalks/${source}/${target}/landings.csv?filter=${encodeURIComponent(filter)}`" download>Save as CSV</a>
        </p>
        <LandingTable :rows="landings.rows" none="The filter finds nothing here." :opened="openKey" @open="(row: LandingRow) => (openKey = `${row.workload}/${row.nic}`)" />
      </div>
      <HeldTable v-else-if="tab === 'held'" :source="source" :code="target" :name="names.to" />
      <MatchDialog v-model="matching" :crosswalk="crosswalk" @accept="taken" />
      <ExceptionDrawer v-if="openRow" :row="openRow" :crosswalk="crosswalk" :detail="detail" @close="openKey = ''" @edit="draft.edit" />
      <TwinDialog v-model="lost" :to="`/crosswalks/${target}/${source}`" />
    </template>
  </div>
</template>

<style scoped>
.top {
  display: flex;
  flex-wrap: wrap;
  justify-content: space-between;
  gap: var(--gap-4);
}
.buttons {
  display: flex;
  flex-wrap: wrap;
  gap: var(--gap-2);
  align-items: flex-start;
}
.missing {
  display: flex;
  flex-wrap: wrap;
  gap: var(--gap-2);
  align-items: center;
  margin-top: var(--gap-2);
}
.brass {
  color: var(--brass);
}
.chip {
  font: inherit;
  border: 1px solid var(--brass);
  border-radius: 9px;
  background: var(--brass-soft);
  color: var(--ink-1);
  padding: 1px 10px;
  cursor: pointer;
}
.livethread,
.testthread {
  padding-left: 34px;
  margin-left: var(--gap-3);
  background: linear-gradient(var(--ink-2), var(--ink-2)) left center / 28px 2px no-repeat;
}
.testthread {
  background: repeating-linear-gradient(90deg, var(--test) 0 5px, transparent 5px 9px) left center / 28px 2px no-repeat;
  color: var(--test);
}
.bar {
  display: flex;
  gap: var(--gap-3);
  align-items: center;
  flex-wrap: wrap;
  margin: var(--gap-2) 0;
}
.wide {
  width: 360px;
}
</style>
