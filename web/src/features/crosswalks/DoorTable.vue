<script setup lang="ts">
// Where the front doors of the source open at the target.
import { computed } from "vue";
import type { Crosswalk, CrosswalkDetail } from "@/api/types";
import { firstHost, setDoor } from "@/features/crosswalks/edit";
import KeptInput from "@/ui/KeptInput.vue";

const props = defineProps<{ crosswalk: Crosswalk; detail: CrosswalkDetail }>();
const emit = defineEmits<{ edit: [change: (next: Crosswalk) => void] }>();
const HOW = [
  { value: "none", label: "does not open" },
  { value: "same", label: "the same address moves" },
  { value: "other", label: "another address" },
] as const;
type How = (typeof HOW)[number]["value"];
const rowOf = (name: string) => props.crosswalk.front_doors.find((row) => row.source === name);
const how = (name: string): How => (rowOf(name) ? (rowOf(name)?.live ? "other" : "same") : "none");
const free = computed(() => props.detail.targets.door_addresses.join(", "));
const gone = computed(() => props.crosswalk.front_doors.filter((row) => !props.detail.source_doors.some((door) => door.name === row.source)));
const from = (sources: string[]) => (sources.length ? `from ${sources.join(", ")}` : "from anywhere");
function turn(name: string, address: string, to: How) {
  const other = firstHost(props.detail.targets.door_addresses) || address;
  emit("edit", (next) => setDoor(next, name, to === "none" ? null : { live: to === "other" ? other : "" }));
}
</script>

<template>
  <div>
    <p class="quiet">A cue <b>Front doors open</b> of a plan moves them. Another address wants a name that leads to it. <template v-if="free">{{ detail.target_name }} can publish {{ free }}.</template></p>
    <div class="scroll" tabindex="0"><table class="lines">
      <thead>
        <tr>
          <th>Front door</th>
          <th>Leads to</th>
          <th>At {{ detail.source_name }}</th>
          <th>At {{ detail.target_name }}</th>
          <th><span class="out-of-sight">Address, live</span></th>
          <th>In a test</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="door in detail.source_doors" :key="door.name" :data-door="door.name">
          <td class="mono">{{ door.name }}</td>
          <td class="mono">{{ door.workload }}</td>
          <td><span class="mono">{{ door.address }}, {{ door.ports.join(" ") }}</span> <span class="quiet">{{ from(door.sources) }}</span></td>
          <td>
            <el-select class="entry how" :model-value="how(door.name)" :aria-label="`What becomes of ${door.name}`" filterable default-first-option @change="turn(door.name, door.address, $event)"><el-option v-for="one in HOW" :key="one.value" :value="one.value" :label="`${one.label}`" /></el-select>
          </td>
          <td><KeptInput v-if="how(door.name) === 'other'" class="entry mono" :value="rowOf(door.name)?.live ?? ''" :aria-label="`Address of ${door.name}, live`" @done="emit('edit', (next) => setDoor(next, door.name, { live: $event.trim() }))" /></td>
          <td><KeptInput v-if="rowOf(door.name)" class="entry mono" :value="rowOf(door.name)?.test ?? ''" :aria-label="`Address of ${door.name}, in a test`" placeholder="does not open" @done="emit('edit', (next) => setDoor(next, door.name, { test: $event.trim() }))" /></td>
        </tr>
        <tr v-for="row in gone" :key="row.source">
          <td class="mono">{{ row.source }}</td>
          <td class="quiet" colspan="3">not at {{ detail.source_name }} now</td>
          <td class="mono">{{ row.live || "the same address" }}</td>
          <td><button class="link" :aria-label="`Remove the row for ${row.source}`" @click="emit('edit', (next) => setDoor(next, row.source, null))">remove</button></td>
        </tr>
        <tr v-if="!detail.source_doors.length && !gone.length">
          <td colspan="6" class="quiet">{{ detail.source_name }} has no front doors. They stand under <RouterLink to="/estate/sites">Estate, Sites and networks</RouterLink>.</td>
        </tr>
      </tbody>
    </table></div>
  </div>
</template>

<style scoped>
.how {
  width: 210px;
}
</style>
