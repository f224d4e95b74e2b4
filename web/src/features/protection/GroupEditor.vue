<script setup lang="ts">
// A group as it is made or changed; what it would cost is said while one types.
import { useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { api, take } from "@/api/client";
import { useProtection, useSites, useWorkloads } from "@/api/queries";
import type { Group, GroupDetail } from "@/api/types";
import GroupCost from "@/features/protection/GroupCost.vue";
import PolicyFields from "@/features/protection/PolicyFields.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import RecoveredNote from "@/ui/RecoveredNote.vue";
import { useFormDraft } from "@/ui/formDraft";
import { count } from "@/ui/format";
import { useKeys } from "@/ui/keys";

const route = useRoute();
const router = useRouter();
const client = useQueryClient();
const code = computed(() => (typeof route.params.code === "string" ? route.params.code : ""));
const { data: sites } = useSites();
const { data: known, error } = useQuery({
  queryKey: ["group", code],
  queryFn: () => take(api.GET("/api/v1/groups/{code}", { params: { path: { code: code.value } } })),
  enabled: computed(() => !!code.value),
  refetchOnWindowFocus: false,
});
const asked = computed(() => (typeof route.query.members === "string" ? route.query.members.split(",").filter(Boolean) : []));
const draft = ref<Group>({
  code: "", name: "", source: "", target: "", members: asked.value, tag_rule: "",
  policy: {
    mode: "interval", interval_s: 60, rpo_s: 300, app_consistent_every_s: 3600, keep_all_s: 6 * 3600, keep_hourly_s: 48 * 3600, keep_daily_s: 14 * 86_400,
    most_points: 0, weight: 1, compression: false, encrypted: false, initial: "now", initial_at: null,
  },
});
const revision = ref(0);
const key = ref("");
const problem = ref<unknown>(null);
const busy = ref(false);
watch(
  known,
  (now) => {
    if (!now || revision.value) return;
    draft.value = JSON.parse(JSON.stringify({ ...now.group, members: now.named }));
    revision.value = now.revision;
  },
  { immediate: true },
);
const { recovered, forget, discard } = useFormDraft(
  () => `group.${code.value}`,
  draft,
  computed(() => (code.value ? revision.value > 0 : !!draft.value.source && !asked.value.length)),
);
// The site of the first workload asked for is where it is copied from.
const { data: first, isLoading: looking } = useQuery({
  queryKey: ["workload", computed(() => asked.value[0] ?? "")],
  queryFn: () => take(api.GET("/api/v1/workloads/{name}", { params: { path: { name: asked.value[0] ?? "" } } })),
  enabled: computed(() => asked.value.length > 0 && !code.value),
  retry: false,
});
watch(
  [first, sites],
  () => {
    if (code.value || draft.value.source || !sites.value) return;
    draft.value.source = first.value?.site ?? (asked.value.length ? "" : (sites.value.sites[0]?.code ?? ""));
    if (draft.value.source) draft.value.target = sites.value.sites.find((site) => site.code !== draft.value.source)?.code ?? "";
  },
  { immediate: true },
);
watch(
  () => draft.value.name,
  (name, before) => {
    const made = (text: string) => text.toLowerCase().replace(/[^a-z0-9]+/g, "-").replace(/^-+|-+$/g, "").slice(0, 38);
    if (!code.value && draft.value.code === made(before)) draft.value.code = made(name);
  },
);
const sought = ref("");
const free = computed(() => `site:${draft.value.source || '""'} ${sought.value ? `"${sought.value.replaceAll('"', "")}"` : ""} (-protected${code.value ? ` OR group:${code.value}` : ""})`);
const { data: choices } = useWorkloads(free, 100, computed(() => !!draft.value.source));

/** What the answer says is on the page at once; everything else is asked for again behind it. */
async function open(saved: GroupDetail) {
  void client.invalidateQueries();
  client.setQueryData(["group", saved.group.code], saved);
  await router.push(`/protection/${saved.group.code}`);
}
async function save() {
  busy.value = true;
  problem.value = null;
  try {
    const body = { group: draft.value, key: key.value };
    const saved = code.value
      ? await take(api.PUT("/api/v1/groups/{code}", { params: { path: { code: code.value }, header: { "If-Match": `"${revision.value}"` } }, body }))
      : await take(api.POST("/api/v1/groups", { body }));
    forget();
    await open(saved);
  } catch (caught) {
    problem.value = caught;
  } finally {
    busy.value = false;
  }
}
// Whoever comes to protect something may want it in a group that is there already.
const { data: protection } = useProtection();
const joinable = computed(() => (asked.value.length && !code.value ? (protection.value?.groups ?? []).filter((group) => group.source === draft.value.source) : []));
const joining = ref("");
async function join() {
  busy.value = true;
  problem.value = null;
  try {
    await open(await take(api.POST("/api/v1/groups/{code}/members", { params: { path: { code: joining.value } }, body: { names: asked.value } })));
  } catch (caught) {
    problem.value = caught;
  } finally {
    busy.value = false;
  }
}
useKeys([{ keys: ["Ctrl+Enter"], label: "Save the group", run: () => void save() }]);
</script>

<template>
  <div class="page">
    <ProblemNote v-if="error" :error="error" />
    <h1 class="sentence">
      <template v-if="code">You are changing <RouterLink :to="`/protection/${code}`">{{ known?.group.name ?? code }}</RouterLink>. Its points stay.</template>
      <template v-else>Workloads of a new group are copied together; every point is one moment of all of them.</template>
    </h1>
    <form v-if="joinable.length" class="join" @submit.prevent="join">
      <span>Or add {{ asked.length === 1 ? asked[0] : count(asked.length, "workload") }} to a group that is there:</span>
      <el-select v-model="joining" :empty-values="['', null, undefined]" filterable placeholder="Choose a group" aria-label="Add to group" class="choice" default-first-option>
        <el-option v-for="group in joinable" :key="group.code" :value="group.code" :label="`${group.name} (${count(group.members, 'workload')}, to ${group.target})`" />
      </el-select>
      <el-button v-may="'change-protection'" class="btn" :disabled="!joining || busy" native-type="submit">Add to group</el-button>
    </form>
    <el-skeleton v-if="code && !revision && !error" :rows="8" />
    <div v-else-if="!code || revision" class="sides">
      <form class="form" @submit.prevent="save">
        <RecoveredNote :recovered="recovered" @discard="discard" />
        <div class="two">
          <el-form-item label="Name"><el-input v-model="draft.name" required maxlength="80" /></el-form-item>
          <el-form-item label="Code"><el-input v-model="draft.code" class="mono" :disabled="!!code" required /></el-form-item>
          <el-form-item v-for="end in ['source', 'target'] as const" :key="end" :label="`${end === 'source' ? 'Copied from' : 'to'}`"><el-select v-model="draft[end]" :disabled="!!code" filterable default-first-option>
            <el-option v-for="site in sites?.sites ?? []" :key="site.code" :value="site.code" :label="`${site.name}`" />
          </el-select></el-form-item>
        </div>
        <el-form-item label="Members, one by one"><el-select v-model="draft.members" multiple filterable remote :remote-method="(text: string) => (sought = text)" placeholder="Choose workloads" aria-label="Members" class="wide" default-first-option>
          <el-option v-for="one in choices ?? []" :key="one.name" :value="one.name" :label="one.name" />
        </el-select></el-form-item>
        <el-form-item label="and whatever matches (these join by themselves)"><el-input v-model="draft.tag_rule" class="mono" placeholder="tier=web AND app=booking" /></el-form-item>
        <PolicyFields v-model="draft.policy" :is-new="!code" />
        <label v-if="draft.policy.encrypted && !known?.key_fingerprint">
          Key of the copies, 16 characters or more
          <el-input v-model="key" type="password" autocomplete="off" required minlength="16" maxlength="4096" />
          <span class="quiet">{{ draft.target || "The site" }} encrypts with it from the first byte. Keep it elsewhere too: it is never shown again.</span>
        </label>
        <ProblemNote v-if="problem" :error="problem" />
        <p class="buttons">
          <el-button v-may="'change-protection'" class="btn main" :disabled="busy || looking || !sites" native-type="submit">{{ code ? "Save" : "Protect them" }}</el-button>
          <RouterLink :to="code ? `/protection/${code}` : '/protection'" class="btn">Cancel</RouterLink>
        </p>
      </form>
      <GroupCost :group="draft" :is-new="!code" />
    </div>
  </div>
</template>

<style scoped>
.sides {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: var(--gap-5);
  margin-top: var(--gap-3);
}
.wide {
  width: 100%;
}
.join {
  display: flex;
  flex-wrap: wrap;
  gap: var(--gap-2);
  align-items: center;
  margin-top: var(--gap-2);
}
.choice {
  width: 320px;
}
@media (max-width: 900px) {
  .sides {
    grid-template-columns: 1fr;
  }
}
</style>
