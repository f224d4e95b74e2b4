<script setup lang="ts">
// What one workload and one of its adapters has in place of what the rules say. Every change goes into the
// draft at once, so that the row behind the drawer shows what it makes.
import { computed } from "vue";
import type { Crosswalk, CrosswalkDetail, LandingRow, NicSide } from "@/api/types";
import { entryOf, exceptionOf, newSide, tidy, words } from "@/features/crosswalks/edit";
import KeptInput from "@/ui/KeptInput.vue";
import FindingList from "@/ui/FindingList.vue";
import { landed } from "@/ui/landing";

const props = defineProps<{ row: LandingRow; crosswalk: Crosswalk; detail: CrosswalkDetail }>();
const emit = defineEmits<{ close: []; edit: [change: (next: Crosswalk) => void] }>();
const SIDES = ["live", "test"] as const;
type Mode = "rules" | "addresses" | "dhcp" | "disconnected";
const MODES: { value: Mode; label: string }[] = [
  { value: "rules", label: "as the rules say" },
  { value: "addresses", label: "has its own addresses" },
  { value: "dhcp", label: "asks DHCP" },
  { value: "disconnected", label: "is left disconnected" },
];

const entry = computed(() => props.crosswalk.table.find((one) => one.workload === props.row.workload && one.nic === props.row.nic));
const exception = computed(() => props.crosswalk.exceptions.find((one) => one.workload === props.row.workload));
function mode(side: NicSide | null | undefined): Mode {
  if (side?.disconnected) return "disconnected";
  if (side?.dhcp) return "dhcp";
  return side?.addresses ? "addresses" : "rules";
}
function setSide(which: "live" | "test", change: (side: NicSide) => void) {
  emit("edit", (next) => {
    const one = entryOf(next, props.row.workload, props.row.nic);
    const side = one[which] ?? newSide();
    change(side);
    one[which] = JSON.stringify(side) === JSON.stringify(newSide()) ? null : side;
    tidy(next);
  });
}
function setMode(which: "live" | "test", wanted: Mode) {
  setSide(which, (side) => {
    side.disconnected = wanted === "disconnected";
    side.dhcp = wanted === "dhcp";
    // It begins with what it would have, so that one only changes what is different.
    side.addresses = wanted === "addresses" ? (side.addresses ?? props.row[which]?.addresses ?? []) : null;
    if (wanted !== "addresses") side.gateways = side.dns = null;
  });
}
const orNothing = (value: string) => (value ? words(value) : null);
function setMac(value: string) {
  emit("edit", (next) => {
    entryOf(next, props.row.workload, props.row.nic).mac = value.toLowerCase() || null;
    tidy(next);
  });
}
function setWorkload(field: "name" | "host_pool" | "folder" | "cores" | "memory_mib", value: string) {
  emit("edit", (next) => {
    const one = exceptionOf(next, props.row.workload);
    if (field === "cores" || field === "memory_mib") one[field] = value ? Number(value) : null;
    else one[field] = value || null;
    tidy(next);
  });
}
function setPool(disk: string, pool: string) {
  emit("edit", (next) => {
    const pools = exceptionOf(next, props.row.workload).storage_pools;
    if (pool) pools[disk] = pool;
    else delete pools[disk];
    tidy(next);
  });
}
const landable = computed(() => props.detail.targets.storage_pools.filter((pool) => !pool.replicated));
const allBack = () =>
  emit("edit", (next) => {
    next.table = next.table.filter((one) => one.workload !== props.row.workload);
    next.exceptions = next.exceptions.filter((one) => one.workload !== props.row.workload);
  });
const networksFor = (side: "live" | "test") => props.detail.targets.networks.filter((network) => (network.role === "sandbox") === (side === "test"));
const found = computed(() => props.row.findings.map((one) => one.finding));
</script>

<template>
  <el-drawer :model-value="true" :title="`${row.workload} at ${detail.target_name}`" size="min(520px, 96vw)" @close="emit('close')">
    <div class="form">
      <p v-if="row.nic">
        {{ row.nic }}, now {{ row.before }} on {{ row.network }}: live <b class="mono">{{ landed(row.live) }}</b> on {{ row.live?.network || "nothing" }}, in a test <b class="mono">{{ landed(row.test) }}</b> on {{ row.test?.network || "nothing" }}.
      </p>
      <FindingList v-if="found.length" :findings="found" />
      <template v-if="row.nic">
        <div v-for="side in SIDES" :key="side" :data-side="side">
          <h2 :class="side">Adapter {{ row.nic }}, {{ side === "live" ? "live" : "in a test" }}</h2>
          <el-form-item label="It"><el-select :model-value="mode(entry?.[side])" :aria-label="`Adapter, ${side}`" filterable default-first-option @change="setMode(side, $event as Mode)">
            <el-option v-for="one in MODES" :key="one.value" :value="one.value" :label="`${one.label}`" />
          </el-select></el-form-item>
          <template v-if="mode(entry?.[side]) !== 'disconnected'">
            <el-form-item label="Network"><el-select :model-value="entry?.[side]?.network ?? ''" :aria-label="`Network, ${side}`" filterable default-first-option @change="setSide(side, (one) => (one.network = $event || null))">
              <el-option value="" label="as mapped" />
              <el-option v-for="network in networksFor(side)" :key="network.name" :value="network.name" :label="`${network.name} (${network.prefixes.join(', ')})`" />
            </el-select></el-form-item>
            <el-form-item v-if="mode(entry?.[side]) === 'addresses'" label="Addresses with their prefix length"><KeptInput class="mono" :value="entry?.[side]?.addresses?.join(' ') ?? ''" :aria-label="`Addresses, ${side}`" placeholder="172.18.4.99/24" @done="setSide(side, (one) => (one.addresses = words($event.trim())))"
            /></el-form-item>
            <el-form-item v-if="mode(entry?.[side]) === 'dhcp'" label="Reserve these for it (or leave it to the server)"><KeptInput class="mono" :value="entry?.[side]?.addresses?.join(' ') ?? ''" :aria-label="`Reserved, ${side}`" @done="setSide(side, (one) => (one.addresses = orNothing($event.trim())))"
            /></el-form-item>
            <div v-if="mode(entry?.[side]) === 'addresses'" class="two">
              <el-form-item label="Gateway"><KeptInput class="mono" :value="entry?.[side]?.gateways?.join(' ') ?? ''" :aria-label="`Gateways, ${side}`" placeholder="that of the network" @done="setSide(side, (one) => (one.gateways = orNothing($event.trim())))" /></el-form-item>
              <el-form-item label="Name servers"><KeptInput class="mono" :value="entry?.[side]?.dns?.join(' ') ?? ''" :aria-label="`Name servers, ${side}`" placeholder="those of the rule" @done="setSide(side, (one) => (one.dns = orNothing($event.trim())))" /></el-form-item>
            </div>
          </template>
        </div>
        <el-form-item label="MAC at the target"><KeptInput class="mono" :value="entry?.mac ?? ''" aria-label="MAC at the target" :placeholder="row.live?.mac" @done="setMac($event.trim())" /></el-form-item>
      </template>
      <h2>{{ row.workload }} itself</h2>
      <div class="two">
        <el-form-item label="Name there"><KeptInput :value="exception?.name ?? ''" aria-label="Name there" :placeholder="row.workload" @done="setWorkload('name', $event.trim())" /></el-form-item>
        <el-form-item label="Host pool"><el-select :model-value="exception?.host_pool ?? ''" aria-label="Host pool there" filterable default-first-option @change="setWorkload('host_pool', $event)">
          <el-option value="" label="as mapped" />
          <el-option v-for="pool in detail.targets.host_pools" :key="pool.name" :value="pool.name" :label="`${pool.name}`" />
        </el-select></el-form-item>
        <el-form-item label="Cores"><KeptInput type="number" min="1" :value="exception?.cores ?? ''" aria-label="Cores there" placeholder="as here" @done="setWorkload('cores', $event.trim())" /></el-form-item>
        <el-form-item label="Memory, MiB"><KeptInput type="number" min="1" :value="exception?.memory_mib ?? ''" aria-label="Memory there" placeholder="as here" @done="setWorkload('memory_mib', $event.trim())" /></el-form-item>
        <el-form-item label="Folder"><el-select :model-value="exception?.folder ?? ''" aria-label="Folder there" filterable default-first-option @change="setWorkload('folder', $event)">
          <el-option value="" label="as mapped" />
          <el-option v-for="name in detail.targets.folders" :key="name" :value="name" :label="`${name}`" />
        </el-select></el-form-item>
      </div>
      <el-form-item v-for="disk in row.disks" :key="disk.disk" :label="`${disk.disk}, ${disk.size_gib} GiB, lands on ${disk.storage_pool || 'nothing yet'}`"><el-select :model-value="exception?.storage_pools[disk.disk] ?? ''" :aria-label="`Pool of ${disk.disk} there`" filterable default-first-option @change="setPool(disk.disk, $event)">
        <el-option value="" label="as mapped" />
        <el-option v-for="pool in landable" :key="pool.name" :value="pool.name" :label="`${pool.name} (${pool.capacity_gib - pool.used_gib} GiB free)`" />
      </el-select></el-form-item>
      <p class="buttons">
        <el-button class="btn" :disabled="!row.exception" @click="allBack">Back to the rules</el-button>
        <el-button class="btn" @click="emit('close')">Close</el-button>
      </p>
    </div>
  </el-drawer>
</template>

<style scoped>
h2 {
  margin-top: var(--gap-4);
}
.test {
  color: var(--test);
}
</style>
