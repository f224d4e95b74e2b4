<script setup lang="ts">
import { useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref, watch } from "vue";
import { api, take } from "@/api/client";
import WorkloadForm from "@/features/estate/WorkloadForm.vue";
import FindingList from "@/ui/FindingList.vue";
import TrapsOf from "@/ui/TrapsOf.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { ago } from "@/ui/format";
import { offerUndo } from "@/ui/undo";

const props = defineProps<{ name: string }>();
const emit = defineEmits<{ close: []; open: [name: string] }>();
const client = useQueryClient();
const editing = ref(false);
const problem = ref<unknown>(null);
const name = computed(() => props.name);
const isNew = computed(() => props.name === "new");
const { data, error } = useQuery({
  queryKey: ["workload", name],
  queryFn: () => take(api.GET("/api/v1/workloads/{name}", { params: { path: { name: name.value } } })),
  enabled: computed(() => !!name.value && !isNew.value),
  retry: false,
});
watch(name, () => {
  editing.value = false;
  problem.value = null;
});
async function retire() {
  problem.value = null;
  try {
    await take(api.DELETE("/api/v1/workloads/{name}", { params: { path: { name: name.value } } }));
    await offerUndo("workload", name.value, `${name.value} is retired.`);
    emit("close");
    await client.invalidateQueries();
  } catch (caught) {
    problem.value = caught;
  }
}
function saved(made: string) {
  editing.value = false;
  void client.invalidateQueries();
  emit("open", made);
}
</script>

<template>
  <el-drawer :model-value="!!name" :title="isNew ? 'A new workload' : name" size="min(600px, 96vw)" @close="emit('close')">
    <WorkloadForm v-if="isNew" @saved="saved" @cancel="emit('close')" />
    <ProblemNote v-else-if="error" :error="error" />
    <WorkloadForm v-else-if="data && editing" :detail="data" @saved="saved" @cancel="editing = false" />
    <div v-else-if="data" class="detail">
      <p>
        {{ data.workload.os_family }}, {{ data.workload.cores }} cores, {{ Math.round(data.workload.memory_mib / 102.4) / 10 }} GiB at <b>{{ data.site }}</b><template v-if="data.workload.host_pool"> on {{ data.workload.host_pool }}</template><template v-if="data.workload.folder"> in {{ data.workload.folder }}</template>;
        {{ data.workload.criticality }}<template v-if="data.workload.owner">, owned by {{ data.workload.owner }}</template>.
        <span v-if="!data.workload.guest_agent">▲ No guest agent.</span>
        <span v-if="data.workload.needs_key"> Its copies need a key.</span>
      </p>
      <p>
        <template v-if="data.group">Protected in <RouterLink :to="`/protection/${data.group}`">{{ data.group }}</RouterLink>.</template>
        <span v-else class="bad">✕ It is not protected. <RouterLink :to="`/protection/new?members=${data.workload.name}`">Protect it</RouterLink></span>
        <template v-if="data.plans.length"> In plan <RouterLink v-for="plan in data.plans" :key="plan" :to="`/plans/${plan}?select=${data.workload.name}`" class="mono gap">{{ plan }}</RouterLink></template>
      </p>
      <p v-if="Object.keys(data.workload.tags).length" class="mono quiet">{{ Object.entries(data.workload.tags).map(([k, v]) => `${k}=${v}`).join("  ") }}</p>
      <h2>Disks</h2>
      <table>
        <tr v-for="disk in data.workload.disks" :key="disk.name">
          <td>{{ disk.name }}</td>
          <td class="mono right">{{ disk.size_gib }} GiB</td>
          <td class="mono">{{ disk.storage_pool }}</td>
          <td v-if="disk.left_out_because" class="warn">▲ left out: {{ disk.left_out_because }}</td>
          <td v-else>copied</td>
        </tr>
      </table>
      <h2>Adapters</h2>
      <table>
        <tr v-for="nic in data.workload.nics" :key="nic.name">
          <td>{{ nic.name }}</td>
          <td class="mono">{{ nic.network }}</td>
          <td class="mono">{{ nic.addresses.join(", ") }}{{ nic.dhcp ? " (DHCP)" : "" }}</td>
          <td class="mono quiet">{{ nic.mac }}</td>
        </tr>
      </table>
      <h2>Needs</h2>
      <p v-if="!data.needs.length" class="quiet">No service of others.</p>
      <ul>
        <li v-for="one in data.needs" :key="one.service">
          {{ one.service }}
          <template v-if="one.workload">of <button class="link" @click="emit('open', one.workload)">{{ one.workload }}</button></template>
          <span v-if="!one.workload" class="bad">✕ that nobody offers</span><span v-else-if="!one.protected_by" class="bad"> ✕ not protected</span>
        </li>
      </ul>
      <h2>Needed by</h2>
      <p v-if="!data.needed_by.length" class="quiet">Nobody.</p>
      <ul>
        <li v-for="one in data.needed_by" :key="one.workload + one.service"><button class="link" @click="emit('open', one.workload)">{{ one.workload }}</button> uses {{ one.service }}</li>
      </ul>
      <h2>Where it lands</h2>
      <p v-if="!data.lands" class="quiet">{{ data.group ? "There is no crosswalk in its direction yet." : "Nowhere: it is not protected." }}</p>
      <template v-else>
        <p>At <RouterLink :to="`/crosswalks/${data.site}/${data.lands.target_code}?tab=landings&filter=${data.workload.name}`">{{ data.lands.target }}</RouterLink> on <span class="mono">{{ data.lands.host_pool || "no host pool" }}</span>.</p>
        <table>
          <tr>
            <th>Adapter</th>
            <th>Now</th>
            <th>Live</th>
            <th>In a test</th>
          </tr>
          <tr v-for="nic in data.lands.nics" :key="nic.nic">
            <td>{{ nic.nic }}</td>
            <td class="mono">{{ nic.before }}</td>
            <td class="mono">{{ nic.live }}</td>
            <td class="mono">{{ nic.test }}</td>
          </tr>
        </table>
        <FindingList :findings="data.lands.findings" />
      </template>
      <h2>Known traps</h2>
      <TrapsOf about="workload" :name="data.workload.name" />
      <h2>History</h2>
      <p v-if="!data.runs.length" class="quiet">No run brought it up yet.</p>
      <ul>
        <li v-for="run in data.runs" :key="run.id"><RouterLink :to="`/runs/${run.id}`">Test of {{ run.plan_name }}</RouterLink> {{ run.outcome }} {{ run.ended_at ? ago(run.ended_at) : "" }}</li>
      </ul>
      <ProblemNote v-if="problem" :error="problem" />
      <p class="buttons">
        <el-button v-may="'change-estate'" class="btn" @click="editing = true">Change</el-button>
        <el-button v-may="'change-estate'" class="btn danger" @click="retire">Retire</el-button>
      </p>
    </div>
  </el-drawer>
</template>

<style scoped>
h2 {
  margin: var(--gap-4) 0 var(--gap-1);
}
table {
  width: 100%;
  border-collapse: collapse;
}
td,
th {
  padding: 4px 8px 4px 0;
  border-bottom: 1px solid var(--rule-faint);
  text-align: left;
  vertical-align: top;
}
.right {
  text-align: right;
}
.gap {
  margin-right: 6px;
}
.warn {
  color: var(--brass);
}
.buttons {
  display: flex;
  gap: var(--gap-2);
  margin-top: var(--gap-4);
}
</style>
