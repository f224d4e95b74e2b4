<script setup lang="ts">
import { useQueryClient } from "@tanstack/vue-query";
import { computed, ref, useTemplateRef, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { api, take } from "@/api/client";
import { useProtection } from "@/api/queries";
import EstateTabs from "@/features/estate/EstateTabs.vue";
import FilterField from "@/features/estate/FilterField.vue";
import WorkloadDrawer from "@/features/estate/WorkloadDrawer.vue";
import WorkloadTable from "@/features/estate/WorkloadTable.vue";
import { useWorkloadPages } from "@/features/estate/pages";
import FileButton from "@/ui/FileButton.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { count } from "@/ui/format";
import { useKeys } from "@/ui/keys";

const route = useRoute();
const router = useRouter();
const client = useQueryClient();
const filter = ref(String(route.query.filter ?? ""));
const sort = ref("name");
const { data, rows, matched, error, see, names } = useWorkloadPages(filter, sort);
const { data: protection } = useProtection();
const selected = ref(new Set<string>());
const open = computed(() => (typeof route.query.open === "string" ? route.query.open : ""));
const field = useTemplateRef<InstanceType<typeof FilterField>>("field");
const said = ref("");
const problem = ref<unknown>(null);
const tagging = ref("");
const joining = ref("");
const tagField = useTemplateRef<HTMLInputElement>("tagField");

watch(filter, (now) => {
  selected.value = new Set();
  void router.replace({ query: { ...route.query, filter: now || undefined } });
});
function show(name: string) {
  void router.replace({ query: { ...route.query, open: name || undefined } });
}
const bare = computed(() => (data.value ? data.value.total - data.value.protected : 0));
const filterWrong = computed(() => (error.value as { problem?: { code?: string } } | null)?.problem?.code === "bad-filter");

async function bulk(work: () => Promise<string>) {
  problem.value = null;
  said.value = "";
  try {
    said.value = await work();
    await client.invalidateQueries();
  } catch (caught) {
    problem.value = caught;
  }
}
function tag(remove: boolean) {
  const [key = "", ...rest] = tagging.value.split("=");
  if (!key.trim()) return;
  const add = remove ? {} : { [key.trim()]: rest.join("=").trim() };
  return bulk(async () => {
    const body = { names: [...selected.value], add, remove: remove ? [key.trim()] : [] };
    const { changed } = await take(api.POST("/api/v1/workload-tags", { body }));
    tagging.value = "";
    return `${count(changed, "workload")} changed.`;
  });
}
function join() {
  if (!joining.value) return;
  if (joining.value === "new") {
    void router.push({ path: "/protection/new", query: { members: [...selected.value].join(",") } });
    return;
  }
  return bulk(async () => {
    const group = await take(
      api.POST("/api/v1/groups/{code}/members", { params: { path: { code: joining.value } }, body: { names: [...selected.value] } }),
    );
    joining.value = "";
    return `${group.line.name} now has ${count(group.line.members, "member")}.`;
  });
}
const none = computed(() => (!data.value || filterWrong.value ? "" : filter.value ? "Nothing matches this filter." : "Nothing is here yet."));
const exported = computed(() => `filter=${encodeURIComponent(filter.value)}`);
useKeys([
  { keys: ["/"], label: "Filter", run: () => field.value?.focus() },
  { keys: ["T"], label: "Tag what is selected", run: () => tagField.value?.focus() },
  { keys: ["N"], label: "A new workload", run: () => show("new") },
]);
</script>

<template>
  <div class="page estate">
    <h1 class="sentence">
      <template v-if="!data">Workloads</template>
      <template v-else-if="data.total">
        {{ count(data.total, "workload") }} are known;
        <button class="link serif" @click="filter = '-protected'">{{ bare ? `${bare} ${bare === 1 ? "is" : "are"} unprotected` : "every one is protected" }}</button>.
      </template>
      <template v-else>Nothing is known yet. <RouterLink to="/estate/import">Import a file</RouterLink>, or <RouterLink to="/estate/sites">register a site</RouterLink>.</template>
    </h1>
    <EstateTabs />
    <FilterField ref="field" v-model="filter" :error="error" />
    <ProblemNote v-if="error && !filterWrong" :error="error" />
    <div class="bar">
      <span v-if="selected.size === 0" class="quiet">
        {{ filter && data ? `${matched} of ${data.total} found` : "" }}
        <template v-if="data?.total">
          <FileButton :path="`/api/v1/export?as=csv&${exported}`" link>Export as CSV</FileButton> · <FileButton :path="`/api/v1/export?as=json&${exported}`" link>as JSON</FileButton> ·
        </template>
        <button v-may="'change-estate'" class="link" @click="show('new')">New workload</button>
      </span>
      <template v-else>
        <b>{{ selected.size }} selected</b>
        <el-input ref="tagField" v-model="tagging" class="entry mono" aria-label="Tag" placeholder="key=value" @keydown.enter="tag(false)" />
        <el-button v-may="'change-estate'" class="btn" :disabled="!tagging.includes('=')" @click="tag(false)">Tag</el-button>
        <el-button v-may="'change-estate'" class="btn" :disabled="!tagging" @click="tag(true)">Untag</el-button>
        <el-select v-model="joining" class="entry" aria-label="Add to group" filterable default-first-option>
          <el-option value="" label="add to group …" />
          <el-option v-for="group in protection?.groups ?? []" :key="group.code" :value="group.code" :label="`${group.name}`" />
          <el-option value="new" label="a new group" />
        </el-select>
        <el-button v-may="'change-protection'" class="btn" :disabled="!joining" @click="join">Add</el-button>
        <button class="link" @click="selected = new Set()">Select none</button>
      </template>
      <span role="status">{{ said }}</span>
    </div>
    <ProblemNote v-if="problem" :error="problem" />
    <WorkloadTable v-model:selected="selected" :rows="rows" :matched="filterWrong ? 0 : matched" :sort="sort" :none="none" @see="see" @open="show" @sort="sort = $event" @all="names().then((all) => (selected = new Set(all)))" />
    <WorkloadDrawer :name="open" @close="show('')" @open="show" />
  </div>
</template>

<style scoped>
.estate {
  height: calc(100vh - 108px);
  display: flex;
  flex-direction: column;
}
.serif {
  font: inherit;
}
.bar {
  display: flex;
  flex-wrap: wrap;
  gap: var(--gap-2);
  align-items: center;
  min-height: 40px;
  padding-top: var(--gap-2);
}
</style>
