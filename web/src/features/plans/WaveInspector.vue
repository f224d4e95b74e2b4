<script setup lang="ts">
// One wave: when it opens, what belongs in it, its cues.
import { computed } from "vue";
import type { Plan, Wave } from "@/api/types";
import CueList from "@/features/plans/CueList.vue";
import type { Owner } from "@/features/plans/draft";
import KeptInput from "@/ui/KeptInput.vue";
import { roman } from "@/ui/format";

const props = defineProps<{ plan: Plan; wave: number; first: number }>();
const emit = defineEmits<{ edit: [change: (plan: Plan) => void]; cue: [owner: Owner, id: string | null]; go: [wave: number] }>();
const one = computed(() => props.plan.waves[props.wave]);
const number = computed(() => roman(props.first + props.wave + 1));
const before = computed(() => roman(props.first + props.wave));
function set<K extends keyof Wave>(field: K, value: Wave[K]) {
  emit("edit", (next) => {
    const wave = next.waves[props.wave];
    if (wave) wave[field] = value;
  });
}
function swap(by: number) {
  emit("edit", (next) => next.waves.splice(props.wave + by, 0, ...next.waves.splice(props.wave, 1)));
  emit("go", props.wave + by);
}
function remove() {
  emit("edit", (next) => next.waves.splice(props.wave, 1));
  emit("go", -1);
}
</script>

<template>
  <div v-if="one" class="form">
    <h2>Wave {{ number }}</h2>
    <el-form-item label="Name"><KeptInput :value="one.name" maxlength="80" @done="set('name', $event.trim() || one.name)" /></el-form-item>
    <el-form-item v-if="first + wave > 0" label="Opens"><el-select :model-value="one.opens" filterable default-first-option @change="set('opens', $event as Wave['opens'])">
      <el-option value="ready" :label="`when ${before} is ready`" />
      <el-option value="powered-on" :label="`when ${before} is powered on`" />
      <el-option value="at-once" :label="`at once with ${before}`" />
    </el-select></el-form-item>
    <el-form-item label="Takes in what matches this filter"><KeptInput :value="one.tag_rule" class="mono" placeholder="app=booking tier=web" maxlength="500" @done="set('tag_rule', $event.trim())" /></el-form-item>
    <p class="quiet small">What the tags bring in shows up as a finding, and is in the plan once somebody takes it in.</p>
    <CueList :plan="plan" :owner="{ kind: 'wave', wave }" what="the wave" @open="(owner, id) => emit('cue', owner, id)" @edit="emit('edit', $event)" />
    <p class="bar">
      <button class="link" :disabled="wave === 0" @click="swap(-1)">← earlier</button>
      <button class="link" :disabled="wave === plan.waves.length - 1" @click="swap(1)">later →</button>
      <button v-if="!one.members.length && plan.waves.length > 1" class="link bad" @click="remove">Remove the empty wave</button>
    </p>
  </div>
</template>

<style scoped>
.small {
  font-size: var(--text-s);
  margin-bottom: var(--gap-2);
}
.bar {
  display: flex;
  gap: var(--gap-3);
  margin-top: var(--gap-2);
}
</style>
