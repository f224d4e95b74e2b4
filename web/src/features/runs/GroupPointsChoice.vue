<script setup lang="ts">
// Another point for one group, or for single workloads of it: the rest stays at the common moment.
import { computed, ref } from "vue";
import type { GroupPoints, RecoveryPoint } from "@/api/types";
import { moment } from "@/ui/format";

const props = defineProps<{ groups: GroupPoints[]; chosen: Record<string, RecoveryPoint | undefined> }>();
const own = defineModel<Record<string, string>>({ required: true });
const apart = defineModel<Record<string, string>>("apart", { required: true });
const workload = ref("");
const groupOf = (name: string) => props.groups.find((group) => group.workloads.includes(name));
const names = computed(() => props.groups.flatMap((group) => group.workloads).sort());
const pointOf = (name: string) => groupOf(name)?.points.find((point) => point.id === apart.value[name]);
function setApart(point: string) {
  apart.value = { ...apart.value, [workload.value]: point };
  workload.value = "";
}
function together(name: string) {
  apart.value = Object.fromEntries(Object.entries(apart.value).filter(([one]) => one !== name));
}
const label = (point: RecoveryPoint) => `${moment(point.at, true)}${point.kind === "application-consistent" ? " ◆" : ""}${point.label ? ` ⚑ ${point.label}` : ""}`;
const open = ref(false);
const MOST = 200;
const newestFirst = computed(() => new Map(props.groups.map((group) => [group.group, [...group.points].reverse().slice(0, MOST)])));
function take(group: string, point: string) {
  own.value = { ...own.value, [group]: point };
}
</script>

<template>
  <p v-if="!open" class="under"><button class="link" @click="open = true">Another point for one group or workload …</button></p>
  <div v-else class="groups">
    <el-form-item v-for="group in groups" :key="group.group" :label="`${group.name}`"><el-select :model-value="chosen[group.group]?.id ?? ''" size="small" filterable :aria-label="`Point of ${group.name}`" default-first-option @update:model-value="take(group.group, $event)">
      <el-option
        v-for="point in newestFirst.get(group.group)"
        :key="point.id"
        :value="point.id"
        :label="label(point)"
      />
    </el-select></el-form-item>
    <label>
      A single workload, if only its copy is damaged
      <el-select v-model="workload" :empty-values="['', null, undefined]" size="small" filterable placeholder="which" aria-label="Workload from another point" default-first-option>
        <el-option v-for="name in names" :key="name" :value="name" :label="name" />
      </el-select>
      <el-select v-if="workload" model-value="" :empty-values="['', null, undefined]" size="small" filterable placeholder="from" :aria-label="`Point of ${workload}`" default-first-option @update:model-value="setApart">
        <el-option v-for="point in newestFirst.get(groupOf(workload)?.group ?? '')" :key="point.id" :value="point.id" :label="label(point)" />
      </el-select>
    </label>
    <p v-for="name in Object.keys(apart)" :key="name" class="bad" :data-apart="name">
      ▲ {{ name }} from {{ moment(pointOf(name)?.at ?? "", true) }}, apart from its group
      <button class="link" @click="together(name)">with its group again</button>
    </p>
  </div>
</template>

<style scoped>
.groups {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(230px, 1fr));
  gap: var(--gap-2) var(--gap-4);
  margin: var(--gap-2) 0;
}
</style>
