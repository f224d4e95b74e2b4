<script setup lang="ts">
// A group as it is made or changed; what it would cost is said while one types.
import { useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { api, take } from "@/api/client";
import { useProtection, useSites, useWorkloads } from "@/api/queries";
import type { Group, GroupDetail } from "@/api/types";
import RetentionStrip from "@/features/protection/RetentionStrip.vue";
import KeptInput from "@/ui/KeptInput.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import RecoveredNote from "@/ui/RecoveredNote.vue";
import { useFormDraft } from "@/ui/formDraft";
import { count, duration, rate, size } from "@/ui/format";
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

/** Seconds as a number and a unit that people count in. */
const UNITS = { s: 1, min: 60, h: 3600, days: 86_400 } as const;
type Unit = keyof typeof UNITS;
const TIMES = [
  { key: "interval_s", label: "A point every", unit: "s" },
  { key: "rpo_s", label: "Objective: never older than (RPO)", unit: "s" },
  { key: "app_consistent_every_s", label: "Application-consistent every (0: never)", unit: "h" },
  { key: "keep_all_s", label: "Keep all points for", unit: "h" },
  { key: "keep_hourly_s", label: "then hourly ones for", unit: "h" },
  { key: "keep_daily_s", label: "then daily ones for", unit: "days" },
] as const satisfies { key: keyof Group["policy"]; label: string; unit: Unit }[];
const set = (name: (typeof TIMES)[number]["key"], unit: Unit, text: string) => (draft.value.policy[name] = Math.round(Number(text) * UNITS[unit]));
const shown = (name: (typeof TIMES)[number]["key"], unit: Unit) => draft.value.policy[name] / UNITS[unit];

const settled = ref<Group | null>(null);
let waiting = 0;
watch(
  draft,
  (now) => {
    window.clearTimeout(waiting);
    waiting = window.setTimeout(() => (settled.value = JSON.parse(JSON.stringify(now))), 250);
  },
  { deep: true, immediate: true },
);
const ready = computed(() => !!settled.value?.source && !!settled.value.target && (settled.value.members.length > 0 || settled.value.tag_rule.trim() !== ""));
const { data: cost, error: costError } = useQuery({
  queryKey: ["cost", settled],
  queryFn: () => take(api.POST("/api/v1/group-cost", { body: { group: { ...settled.value!, name: settled.value!.name || "unnamed" } } })),
  enabled: ready,
  retry: false,
  placeholderData: (before) => before,
});

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
      <el-select v-model="joining" filterable placeholder="Choose a group" aria-label="Add to group" class="choice" default-first-option>
        <el-option v-for="group in joinable" :key="group.code" :value="group.code" :label="`${group.name} (${count(group.members, 'workload')}, to ${group.target})`" />
      </el-select>
      <el-button class="btn" :disabled="!joining || busy" native-type="submit">Add to group</el-button>
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
        <h2>Policy</h2>
        <div class="two">
          <el-form-item label="How"><el-select v-model="draft.policy.mode" filterable default-first-option>
            <el-option value="continuous" label="continuously" />
            <el-option value="interval" label="in cycles" />
            <el-option value="backup-copy" label="as backup copies" />
          </el-select></el-form-item>
          <el-form-item label="Weight on its link"><el-input v-model.number="draft.policy.weight" type="number" min="1" max="100" /></el-form-item>
          <el-form-item v-for="time in TIMES" :key="time.key" :label="`${time.label}, ${time.unit}`"><KeptInput type="number" min="0" step="any" :value="shown(time.key, time.unit)" @done="set(time.key, time.unit, $event)" /></el-form-item>
          <el-form-item label="At most so many points (0: no limit)"><el-input v-model.number="draft.policy.most_points" type="number" min="0" /></el-form-item>
          <el-form-item v-if="!code" label="First copy"><el-select v-model="draft.policy.initial" filterable default-first-option>
            <el-option value="now" label="now" />
            <el-option value="at" label="at a time" />
            <el-option value="seed" label="from a seed that is already there" />
          </el-select></el-form-item>
          <el-form-item v-if="draft.policy.initial === 'at' && !code" label="begins at"><el-date-picker :model-value="draft.policy.initial_at" type="datetime" format="D MMM YYYY, HH:mm" @update:model-value="draft.policy.initial_at = $event ? new Date($event).toISOString() : null" /></el-form-item>
        </div>
        <p>
          <el-checkbox v-model="draft.policy.compression">compress on the link</el-checkbox>
          <el-checkbox v-model="draft.policy.encrypted">encrypt the copies</el-checkbox>
        </p>
        <label v-if="draft.policy.encrypted && !known?.key_fingerprint">
          Key of the copies, 16 characters or more
          <el-input v-model="key" type="password" autocomplete="off" required minlength="16" maxlength="4096" />
          <span class="quiet">{{ draft.target || "The site" }} encrypts with it from the first byte. Keep it elsewhere too: it is never shown again.</span>
        </label>
        <ProblemNote v-if="problem" :error="problem" />
        <p class="buttons">
          <el-button class="btn main" :disabled="busy || looking || !sites" native-type="submit">{{ code ? "Save" : "Protect them" }}</el-button>
          <RouterLink :to="code ? `/protection/${code}` : '/protection'" class="btn">Cancel</RouterLink>
        </p>
      </form>
      <aside>
        <h2>What it would cost</h2>
        <p v-if="!ready" class="quiet">Choose members, and what it costs is said here before anything is saved.</p>
        <ProblemNote v-else-if="costError" :error="costError" />
        <template v-else-if="cost">
          <p v-for="(one, index) in cost.sentences" :key="one" :class="{ bad: !cost.fits && index === cost.sentences.length - 1 }">{{ one }}</p>
          <div class="bar" role="img" :aria-label="`${rate(cost.others_bps)} of others and ${rate(cost.peak_bps)} of this group on ${rate(cost.room_bps)}`">
            <i class="others" :style="{ width: `${Math.min((cost.others_bps / Math.max(cost.room_bps, 1)) * 100, 100)}%` }" />
            <i class="own" :class="{ over: !cost.fits }" :style="{ width: `${Math.min((cost.peak_bps / Math.max(cost.room_bps, 1)) * 100, 100)}%` }" />
          </div>
          <p class="quiet">▨ other groups {{ rate(cost.others_bps) }} ■ this one in its busiest hour {{ rate(cost.peak_bps) }}; the link has {{ rate(cost.room_bps) }} in its narrowest window</p>
          <p v-if="!code">
            The first copy is {{ size(cost.copy_bytes) }}<template v-if="cost.first_copy_s === 0">, and is already there</template><template v-else-if="cost.first_copy_s !== null"> and takes about {{ duration(cost.first_copy_s) }} on what others leave of the link</template><span v-else class="bad">, and would never end: the link has nothing left</span>.
          </p>
          <h2>Points it would keep</h2>
          <RetentionStrip :points="cost.points" />
        </template>
        <p v-else class="quiet">Asking the source how fast they change …</p>
      </aside>
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
aside h2 {
  margin: var(--gap-3) 0 var(--gap-1);
}
aside p {
  margin-bottom: var(--gap-2);
}
.bar {
  display: flex;
  height: 16px;
  border: 1px solid var(--ink-1);
  overflow: hidden;
}
.others {
  background: repeating-linear-gradient(45deg, var(--ink-3) 0 2px, transparent 2px 6px);
}
.own {
  background: var(--ink-1);
}
.own.over {
  background: var(--disaster);
}
@media (max-width: 900px) {
  .sides {
    grid-template-columns: 1fr;
  }
}
</style>
