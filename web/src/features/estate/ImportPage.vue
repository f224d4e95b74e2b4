<script setup lang="ts">
import { useQueryClient } from "@tanstack/vue-query";
import { computed, onScopeDispose, ref } from "vue";
import { api, keptCsrf, take } from "@/api/client";
import { useSites } from "@/api/queries";
import type { ImportView } from "@/api/types";
import EstateTabs from "@/features/estate/EstateTabs.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { count, duration, list } from "@/ui/format";

const client = useQueryClient();
const { data: sites } = useSites();
const job = ref<ImportView | null>(null);
const problem = ref<unknown>(null);
const site = ref("");
const pool = ref("");
const network = ref("");
const token = ref("");
const over = ref(false);
const busy = ref(false);
const there = computed(() => sites.value?.sites.find((one) => one.code === site.value));
// Of an OVA only the descriptor is wanted, and it comes first.
const OVA_HEAD = 16 * 2 ** 20;

let timer = 0;
onScopeDispose(() => window.clearTimeout(timer));
function follow() {
  window.clearTimeout(timer);
  if (job.value?.state !== "reading" && job.value?.state !== "writing") {
    if (job.value?.state === "done") void client.invalidateQueries();
    return;
  }
  timer = window.setTimeout(async () => {
    const id = job.value?.id ?? 0;
    await act(() => take(api.GET("/api/v1/imports/{id}", { params: { path: { id } } })), id);
    follow();
  }, 400);
}
/** Shows the import that ``work`` answers with; an answer about ``only`` is late once another one was begun. */
async function act(work: () => Promise<ImportView>, only?: number) {
  problem.value = null;
  try {
    const answer = await work();
    if (only === undefined || job.value?.id === only) job.value = answer;
  } catch (caught) {
    problem.value = caught;
  }
}
async function read(file: File | undefined) {
  if (!file || busy.value) return;
  busy.value = true;
  const part = file.name.toLowerCase().endsWith(".ova") ? file.slice(0, OVA_HEAD) : file;
  await act(() =>
    take(
      api.POST("/api/v1/imports", {
        params: { query: { name: file.name, site: site.value, storage_pool: pool.value, network: network.value } },
        headers: { "Content-Type": "application/octet-stream", "X-CSRFToken": keptCsrf() },
        body: part as unknown as string,
        bodySerializer: (body) => body as unknown as Blob,
      }),
    ),
  );
  busy.value = false;
  follow();
}
async function confirm() {
  const id = job.value?.id ?? 0;
  await act(() => take(api.POST("/api/v1/imports/{id}", { params: { path: { id } }, body: { token: token.value } })));
  follow();
}
async function cancel() {
  const id = job.value?.id ?? 0;
  await act(() => take(api.DELETE("/api/v1/imports/{id}", { params: { path: { id } } })));
  follow();
}
const sentence = computed(() => {
  const now = job.value;
  if (!now) return "Choose a file. You see what it would bring before anything is written.";
  const found = [];
  if (now.sites.length) found.push(`${count(now.sites.length, "site")} (${list(now.sites)})`);
  if (now.links) found.push(count(now.links, "link"));
  if (now.new) found.push(`${now.new} new ${now.new === 1 ? "workload" : "workloads"}`);
  if (now.changed) found.push(`${now.changed} changed`);
  const brings = found.length ? `${now.file_name} brings ${list(found)}` : `${now.file_name} brings nothing new`;
  if (now.state === "reading") return `Reading ${now.file_name} …`;
  if (now.state === "writing") return `Writing ${now.file_name} …`;
  if (now.state === "failed") return `${now.file_name} was not imported: ${now.problem}`;
  if (now.state === "cancelled") return `${now.file_name} was cancelled; nothing was written.`;
  if (now.state === "done") return `${brings.replace("brings", "brought")}. It is all written down.`;
  const rest = [now.same ? `${now.same} are known already` : "", now.bad ? `${count(now.bad, "row")} cannot be taken` : ""].filter(Boolean);
  return `${brings}${rest.length ? `; ${list(rest)}` : ""}. Nothing is written yet.`;
});
const left = computed(() => {
  const now = job.value;
  if (!now?.total || !now.done) return "";
  return `${now.done} of ${now.total}${now.left_s === null ? "" : `, ${duration(now.left_s)} left`}`;
});
const shapes = { new: "+ new", changed: "≠ changed", same: "= known" } as const;
const brings = computed(() => !!job.value && (job.value.new > 0 || job.value.changed > 0 || job.value.sites.length > 0 || job.value.links > 0));
</script>

<template>
  <div class="page">
    <h1 class="sentence">{{ sentence }}</h1>
    <EstateTabs />
    <div v-if="!job || ['done', 'failed', 'cancelled'].includes(job.state)" class="two">
      <label class="drop" :class="{ over }" @dragover.prevent="over = true" @dragleave="over = false" @drop.prevent="(over = false), read($event.dataTransfer?.files[0])">
        <b>Drop a file here, or choose one</b>
        <span class="quiet">CSV, JSON, OVF or OVA; nothing is written before you say so</span>
        <input type="file" accept=".csv,.json,.ovf,.ova" aria-label="File" @change="read(($event.target as HTMLInputElement).files?.[0])" />
      </label>
      <div class="form">
        <p class="quiet">Needed only for what a file does not say: rows without a site, and OVF, which knows neither site nor pool.</p>
        <el-form-item label="Site"><el-select v-model="site" filterable default-first-option>
          <el-option value="" label="as the file says" />
          <el-option v-for="one in sites?.sites ?? []" :key="one.code" :value="one.code" :label="`${one.name}`" />
        </el-select></el-form-item>
        <el-form-item label="Storage pool, for OVF"><el-select v-model="pool" :disabled="!there" filterable default-first-option>
          <el-option v-for="one in there?.storage_pools ?? []" :key="one.name" :value="one.name" :label="`${one.name}`" />
        </el-select></el-form-item>
        <el-form-item label="Network, for OVF"><el-select v-model="network" :disabled="!there" filterable default-first-option>
          <el-option value="" label="as the file says" />
          <el-option v-for="one in there?.networks ?? []" :key="one.name" :value="one.name" :label="`${one.name}`" />
        </el-select></el-form-item>
      </div>
    </div>
    <p v-if="!job" class="quiet hints">
      A CSV needs the columns <span class="mono">name</span>, <span class="mono">cores</span> and <span class="mono">memory_mib</span>; it may have <span class="mono">site, os_family, disks, nics, tags, owner, criticality, guest_agent, needs_key, offers, uses, host_pool, folder</span>. A JSON file can bring sites, networks and links too. What <RouterLink to="/estate">Estate</RouterLink> exports reads back unchanged and is the best example.
    </p>
    <p v-if="busy" class="quiet">Sending the file …</p>
    <ProblemNote v-if="problem" :error="problem" />
    <template v-if="job">
      <p v-if="job.state === 'reading' || job.state === 'writing'" class="progress">
        <progress :value="job.done" :max="job.total || 1" /> {{ left }}
        <el-button class="btn" @click="cancel">Cancel</el-button>
      </p>
      <template v-if="job.state === 'ready'">
        <p class="form buttons">
          <el-button v-may="'change-estate'" class="btn main" :disabled="!brings" @click="confirm">Import it</el-button>
          <el-button class="btn" @click="cancel">Leave it</el-button>
          <el-form-item v-if="job.sites.length" label="Token of site agents, where they are no practice sites"><el-input v-model="token" type="password" autocomplete="off" /></el-form-item>
        </p>
        <template v-if="job.complaints.length">
          <h2 class="bad">▲ {{ count(job.bad, "row") }} cannot be imported; the others can</h2>
          <table class="lines">
            <tr>
              <th>Row</th>
              <th>Column</th>
              <th>What is wrong</th>
            </tr>
            <tr v-for="one in job.complaints" :key="one.row + one.column">
              <td class="mono">{{ one.row }}</td>
              <td class="mono">{{ one.column }}</td>
              <td>{{ one.sentence }}</td>
            </tr>
          </table>
        </template>
        <h2 v-if="job.rows.length">Workloads<span v-if="job.new + job.changed + job.same > job.rows.length" class="quiet"> (the first {{ job.rows.length }})</span></h2>
        <table class="lines">
          <tr v-for="row in job.rows" :key="row.row">
            <td class="mono">{{ row.row }}</td>
            <td>{{ shapes[row.change] }}</td>
            <td class="mono">{{ row.site }}</td>
            <td><b>{{ row.name }}</b></td>
          </tr>
        </table>
      </template>
      <p v-if="job.state === 'done'">
        <RouterLink to="/estate">See the workloads</RouterLink> · <RouterLink to="/protection/new">Protect some</RouterLink>
      </p>
    </template>
  </div>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: 3fr 2fr;
  gap: var(--gap-5);
}
.drop {
  display: flex;
  flex-direction: column;
  gap: var(--gap-2);
  align-items: center;
  justify-content: center;
  min-height: 190px;
  border: 1.5px dashed var(--ink-3);
  border-radius: var(--radius);
  background: var(--sheet);
  cursor: pointer;
}
.drop.over,
.drop:focus-within {
  border-color: var(--brass);
  background: var(--brass-soft);
}
.hints {
  max-width: 62em;
  margin-top: var(--gap-3);
}
.progress {
  display: flex;
  gap: var(--gap-4);
  align-items: center;
}
.buttons {
  align-items: end;
}
h2 {
  margin: var(--gap-4) 0 var(--gap-1);
}
</style>
