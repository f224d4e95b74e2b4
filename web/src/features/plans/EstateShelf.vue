<script setup lang="ts">
// What could come into the plan: workloads at the source that are in no wave yet, by any filter. They are
// dragged into a wave, or chosen and added.
import { computed, ref } from "vue";
import { useWorkloads } from "@/api/queries";
import type { Plan } from "@/api/types";
import { count, roman } from "@/ui/format";

const MOST = 200;
const props = defineProps<{ plan: Plan; first: number; wave: number }>();
const emit = defineEmits<{ add: [workloads: string[], wave: number]; close: [] }>();
const sought = ref("");
const chosen = ref<Set<string>>(new Set());
const to = ref(props.wave);
const filter = computed(() => `site:${props.plan.source} ${sought.value}`);
const { data: rows, error } = useWorkloads(filter, MOST);
const free = computed(() => {
  const taken = new Set(props.plan.waves.flatMap((wave) => wave.members.map((member) => member.workload)));
  return (rows.value ?? []).filter((one) => !taken.has(one.name) && one.site === props.plan.source);
});
const picked = computed(() => free.value.map((one) => one.name).filter((name) => chosen.value.has(name)));
function toggle(name: string) {
  const next = new Set(chosen.value);
  if (!next.delete(name)) next.add(name);
  chosen.value = next;
}
function all() {
  chosen.value = picked.value.length === free.value.length ? new Set() : new Set(free.value.map((one) => one.name));
}
function drag(event: DragEvent, name: string) {
  event.dataTransfer?.setData("text/plain", JSON.stringify(chosen.value.has(name) ? picked.value : [name]));
}
function add() {
  emit("add", picked.value, to.value);
  chosen.value = new Set();
}
</script>

<template>
  <section class="shelf" aria-label="Workloads to add">
    <p class="head">
      <el-input v-model.lazy.trim="sought" class="entry mono" placeholder="tag:app=booking group:booking-db" aria-label="Filter of workloads to add" />
      <button class="link" @click="all">{{ picked.length && picked.length === free.length ? "none" : "all" }}</button>
      <el-form-item label="to wave"><el-select v-model="to" filterable default-first-option><el-option v-for="(one, index) in plan.waves" :key="index" :value="index" :label="`${roman(first + index + 1)} ${one.name}`" /></el-select></el-form-item>
      <el-button class="btn main" :disabled="!picked.length" @click="add">Add {{ count(picked.length, "workload") }}</el-button>
      <button class="link" @click="emit('close')">Close</button>
    </p>
    <p v-if="error" class="bad">{{ error instanceof Error ? error.message : "That filter cannot be read." }}</p>
    <p v-else-if="!free.length" class="quiet">Nothing at {{ plan.source }} that this finds is outside of the plan.</p>
    <div class="cards">
      <el-checkbox v-for="one in free" :key="one.name" draggable="true" class="card" :model-value="chosen.has(one.name)" @dragstart="drag($event, one.name)" @change="toggle(one.name)">{{ one.name }} <small v-if="!one.group" class="bad">not protected</small></el-checkbox>
    </div>
  </section>
</template>

<style scoped>
.shelf {
  border: 1px solid var(--brass);
  border-radius: var(--radius);
  padding: var(--gap-2);
  margin-bottom: var(--gap-2);
}
.head {
  display: flex;
  flex-wrap: wrap;
  gap: var(--gap-3);
  align-items: center;
}
.head .entry {
  flex: 1 1 200px;
}
.cards {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 8px;
  max-height: 116px;
  overflow: auto;
  margin-top: var(--gap-2);
}
.card {
  border: 1px solid var(--rule);
  border-radius: var(--radius);
  background: var(--sheet);
  padding: 1px 8px;
  cursor: grab;
}
</style>
