<script setup lang="ts">
// A workload as a person changes it. Lists are edited as lines; what the server refuses is said by field.
import { computed, reactive, ref } from "vue";
import { api, take } from "@/api/client";
import { useSites } from "@/api/queries";
import type { Disk, Nic, Workload, WorkloadDetail } from "@/api/types";
import KeptInput from "@/ui/KeptInput.vue";
import ProblemNote from "@/ui/ProblemNote.vue";

const props = defineProps<{ detail?: WorkloadDetail }>();
const emit = defineEmits<{ saved: [name: string]; cancel: [] }>();
const { data: sites } = useSites();
const problem = ref<unknown>(null);
const busy = ref(false);
const empty: Workload = { name: "", os_family: "linux", cores: 2, memory_mib: 4096, disks: [], nics: [], tags: {}, owner: "", criticality: "important", guest_agent: true, needs_key: false, offers: [], uses: [], host_pool: '', folder: '' };
const draft = reactive<Workload>(structuredClone(props.detail ? JSON.parse(JSON.stringify(props.detail.workload)) : empty));
const site = ref(props.detail?.site ?? "");
const there = computed(() => sites.value?.sites.find((one) => one.code === site.value));
const lines = (text: string) => text.split("\n").map((line) => line.trim()).filter(Boolean);
const tags = ref(Object.entries(draft.tags).map(([key, value]) => `${key}=${value}`).join("\n"));
const offers = ref(draft.offers.map((one) => `${one.name} ${one.protocol} ${one.port}`).join("\n"));
const uses = ref(draft.uses.join("\n"));

const addDisk = () => draft.disks.push({ name: `disk${draft.disks.length}`, size_gib: 40, storage_pool: there.value?.storage_pools[0]?.name ?? "", left_out_because: null });
function addNic() {
  const bytes = crypto.getRandomValues(new Uint8Array(5));
  const mac = ["02", ...[...bytes].map((byte) => byte.toString(16).padStart(2, "0"))].join(":");
  draft.nics.push({ name: `nic${draft.nics.length}`, network: there.value?.networks[0]?.name ?? "", mac, dhcp: false, addresses: [], gateways: [], dns: [] });
}
const listed = (values: string[]) => values.join(" ");
const split = (text: string) => text.split(/[\s,]+/).filter(Boolean);
const setLeft = (disk: Disk, text: string) => (disk.left_out_because = text === "" ? null : text);
const setNic = (nic: Nic, field: "addresses" | "gateways" | "dns", text: string) => (nic[field] = split(text));

async function save() {
  busy.value = true;
  problem.value = null;
  const workload: Workload = {
    ...draft,
    tags: Object.fromEntries(lines(tags.value).map((line) => [line.split("=")[0] ?? "", line.split("=").slice(1).join("=")])),
    offers: lines(offers.value).map((line) => {
      const [name = "", protocol = "", port = ""] = line.split(/\s+/);
      return { name, protocol: protocol as "tcp", port: Number(port) || 0 };
    }),
    uses: lines(uses.value),
  };
  try {
    if (props.detail) {
      await take(
        api.PUT("/api/v1/workloads/{name}", {
          params: { path: { name: workload.name }, header: { "If-Match": `"${props.detail.revision}"` } },
          body: { workload },
        }),
      );
    } else await take(api.POST("/api/v1/workloads", { body: { site: site.value, workload } }));
    emit("saved", workload.name);
  } catch (caught) {
    problem.value = caught;
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <form class="form" @submit.prevent="save">
    <template v-if="!detail">
      <el-form-item label="Name"><el-input v-model="draft.name" class="mono" required /></el-form-item>
      <el-form-item label="Site"><el-select v-model="site" filterable default-first-option>
        <el-option v-for="one in sites?.sites ?? []" :key="one.code" :value="one.code" :label="`${one.name}`" />
      </el-select></el-form-item>
    </template>
    <div class="two">
      <el-form-item label="Cores"><el-input v-model.number="draft.cores" type="number" min="1" /></el-form-item>
      <el-form-item label="Memory in MiB"><el-input v-model.number="draft.memory_mib" type="number" min="1" /></el-form-item>
      <el-form-item label="OS"><el-select v-model="draft.os_family" filterable allow-create default-first-option>
        <el-option value="linux" label="linux" />
        <el-option value="bsd" label="bsd" />
        <el-option value="appliance" label="appliance" />
      </el-select></el-form-item>
      <el-form-item label="Criticality"><el-select v-model="draft.criticality" filterable default-first-option>
        <el-option value="vital" label="vital" />
        <el-option value="important" label="important" />
        <el-option value="deferrable" label="deferrable" />
      </el-select></el-form-item>
      <el-form-item label="Owner"><el-input v-model="draft.owner" /></el-form-item>
    </div>
    <p>
      <el-checkbox v-model="draft.guest_agent">has a guest agent</el-checkbox>
      <el-checkbox v-model="draft.needs_key">its copies need a key</el-checkbox>
    </p>
    <h2>Disks <button type="button" class="link" @click="addDisk">Add</button></h2>
    <div v-for="(disk, index) in draft.disks" :key="index" class="line">
      <el-input v-model="disk.name" aria-label="Disk" class="mono short" />
      <el-input v-model.number="disk.size_gib" aria-label="GiB" type="number" min="1" class="short" />
      <el-select v-model="disk.storage_pool" aria-label="Storage pool" filterable default-first-option>
        <el-option v-for="pool in there?.storage_pools ?? []" :key="pool.name" :value="pool.name" :label="`${pool.name}`" />
      </el-select>
      <el-input :model-value="disk.left_out_because ?? ''" aria-label="Left out because" placeholder="left out because … (empty: copied)" @update:model-value="setLeft(disk, $event)" />
      <button type="button" class="link" aria-label="Remove disk" @click="draft.disks.splice(index, 1)">✕</button>
    </div>
    <h2>Adapters <button type="button" class="link" @click="addNic">Add</button></h2>
    <div v-for="(nic, index) in draft.nics" :key="index" class="nic">
      <div class="line">
        <el-input v-model="nic.name" aria-label="Adapter" class="mono short" />
        <el-select v-model="nic.network" aria-label="Network" filterable default-first-option>
          <el-option v-for="network in there?.networks ?? []" :key="network.name" :value="network.name" :label="`${network.name}`" />
        </el-select>
        <el-input v-model="nic.mac" aria-label="MAC" class="mono" />
        <el-checkbox v-model="nic.dhcp">DHCP</el-checkbox>
        <button type="button" class="link" aria-label="Remove adapter" @click="draft.nics.splice(index, 1)">✕</button>
      </div>
      <div class="line">
        <KeptInput :value="listed(nic.addresses)" aria-label="Addresses" class="mono" placeholder="10.20.4.17/24 …" @done="setNic(nic, 'addresses', $event)" />
        <KeptInput :value="listed(nic.gateways)" aria-label="Gateways" class="mono" placeholder="gateway" @done="setNic(nic, 'gateways', $event)" />
        <KeptInput :value="listed(nic.dns)" aria-label="DNS servers" class="mono" placeholder="DNS servers" @done="setNic(nic, 'dns', $event)" />
      </div>
    </div>
    <div class="three">
      <el-form-item label="Tags, key=value a line"><el-input v-model="tags" type="textarea" :rows="4" class="mono" /></el-form-item>
      <el-form-item label="Offers, name protocol port a line"><el-input v-model="offers" type="textarea" :rows="4" class="mono" /></el-form-item>
      <el-form-item label="Uses, a service a line"><el-input v-model="uses" type="textarea" :rows="4" class="mono" /></el-form-item>
    </div>
    <ProblemNote v-if="problem" :error="problem" />
    <p class="buttons">
      <el-button v-may="'change-estate'" class="btn main" :disabled="busy" native-type="submit">{{ detail ? "Save" : "Add it" }}</el-button>
      <el-button class="btn" @click="emit('cancel')">Cancel</el-button>
    </p>
  </form>
</template>
