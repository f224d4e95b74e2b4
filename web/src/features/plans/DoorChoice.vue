<script setup lang="ts">
// Which front doors a cue opens at the target.
import { computed } from "vue";
import type { Cue, Plan } from "@/api/types";
import { useDoors } from "@/features/plans/doors";

type Doors = NonNullable<Cue["doors"]>;
const props = defineProps<{ plan: Plan }>();
const chosen = defineModel<Doors>({ required: true });
const known = useDoors(() => props.plan);
/** Also what the cue names and the site does not have any more: a person must be able to take it out. */
const shown = computed(() => [
  ...known.value.map((door) => ({ name: door.name, says: `${door.address}, ${door.ports.join(" ")}, leads to ${door.workload}` })),
  ...chosen.value.doors.filter((name) => !known.value.some((door) => door.name === name)).map((name) => ({ name, says: `not known at ${props.plan.source}` })),
]);
function turn(name: string, on: boolean) {
  chosen.value.doors = on ? [...chosen.value.doors, name] : chosen.value.doors.filter((one) => one !== name);
}
</script>

<template>
  <fieldset class="doors">
    <legend class="out-of-sight">Front doors</legend>
    <p v-for="door in shown" :key="door.name">
      <el-checkbox :model-value="chosen.doors.includes(door.name)" @change="turn(door.name, Boolean($event))"><span class="mono">{{ door.name }}</span> <span class="quiet">{{ door.says }}</span></el-checkbox>
    </p>
    <p v-if="!shown.length" class="quiet">No front door of {{ plan.source }} is known here. They stand under <RouterLink to="/estate/sites">Estate, Sites and networks</RouterLink>.</p>
  </fieldset>
  <p class="quiet">They open at {{ plan.target }} at the addresses that the <RouterLink :to="`/crosswalks/${plan.source}/${plan.target}?tab=doors`">crosswalk</RouterLink> says, and close at {{ plan.source }} before anything is shut down. When the run is rolled back, they are as they were. In a test only those open that have an address for tests.</p>
</template>

<style scoped>
.doors {
  padding: 0;
  margin: 0 0 var(--gap-2);
  border: 0;
}
</style>
