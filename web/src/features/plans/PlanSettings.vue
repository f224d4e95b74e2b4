<script setup lang="ts">
// What a plan is as a whole: name, objectives, parts, notes. Every field changes the draft at once.
import { computed } from "vue";
import { usePlans } from "@/api/queries";
import type { Plan } from "@/api/types";
import KeptInput from "@/ui/KeptInput.vue";
import MarkdownText from "@/ui/MarkdownText.vue";
import TrapsOf from "@/ui/TrapsOf.vue";

const props = defineProps<{ plan: Plan }>();
const open = defineModel<boolean>({ required: true });
const emit = defineEmits<{ edit: [change: (plan: Plan) => void] }>();
const { data: listed } = usePlans();
const others = computed(() => (listed.value?.plans ?? []).filter((one) => one.code !== props.plan.code && !props.plan.parts.some((part) => part.plan === one.code)));
const nameOf = (code: string) => listed.value?.plans.find((one) => one.code === code)?.name ?? code;
function text(field: "name" | "owner" | "notes", said: string) {
  const value = said.trim();
  if (field === "name" && !value) return;
  emit("edit", (next) => (next[field] = value));
}
const tags = (said: string) => emit("edit", (next) => (next.tags = [...new Set(said.split(",").map((tag) => tag.trim()).filter(Boolean))]));
function number(field: "rto_s" | "rpo_s" | "drill_every_days", factor: number, said: string) {
  const value = Math.round(Number(said) * factor);
  if (value > 0) emit("edit", (next) => (next[field] = value));
}
function addPart(event: Event) {
  const field = event.target as HTMLSelectElement;
  const code = field.value;
  field.value = "";
  if (code) emit("edit", (next) => next.parts.push({ plan: code, opens: "ready" }));
}
const earlier = (index: number) => emit("edit", (next) => next.parts.splice(index - 1, 0, ...next.parts.splice(index, 1)));
</script>

<template>
  <el-dialog v-model="open" :title="`${plan.code}: what it is as a whole`" width="min(620px, 94vw)">
    <div class="form">
      <el-form-item label="Name"><KeptInput :value="plan.name" maxlength="80" @done="text('name', $event)" /></el-form-item>
      <div class="two">
        <el-form-item label="RTO objective, min"><KeptInput :value="plan.rto_s / 60" type="number" min="1" step="any" @done="number('rto_s', 60, $event)" /></el-form-item>
        <el-form-item label="RPO objective, min"><KeptInput :value="plan.rpo_s / 60" type="number" min="0.1" step="any" @done="number('rpo_s', 60, $event)" /></el-form-item>
        <el-form-item label="Owner"><KeptInput :value="plan.owner" maxlength="80" @done="text('owner', $event)" /></el-form-item>
        <el-form-item label="Tags, by commas"><KeptInput :value="plan.tags.join(', ')" maxlength="400" placeholder="tier-1, till" @done="tags($event)" /></el-form-item>
        <el-form-item label="To be tested every, days"><KeptInput :value="plan.drill_every_days" type="number" min="1" max="3660" @done="number('drill_every_days', 1, $event)" /></el-form-item>
        <el-form-item label="Standby of Maestoso"><el-checkbox :model-value="plan.needs_standby" label="Warn when none follows" @change="emit('edit', (next) => (next.needs_standby = !!$event))" /></el-form-item>
      </div>
      <h2>Parts: other plans that come first, in this order</h2>
      <p v-for="(part, index) in plan.parts" :key="part.plan" class="part" :data-part="part.plan">
        <span>{{ index + 1 }}.</span> <b>{{ nameOf(part.plan) }}</b>
        <el-select :model-value="part.opens" :aria-label="`When ${part.plan} opens`" filterable default-first-option @change="emit('edit', (next) => { const one = next.parts[index]; if (one) one.opens = $event as typeof one.opens; })">
          <el-option value="ready" label="when what is before it is ready" />
          <el-option value="powered-on" label="when what is before it is powered on" />
          <el-option value="at-once" label="at once with the wave before it" />
        </el-select>
        <button v-if="index" class="link" :aria-label="`${part.plan} earlier`" @click="earlier(index)">↑</button>
        <button class="link bad" :aria-label="`Take ${part.plan} out`" @click="emit('edit', (next) => next.parts.splice(index, 1))">✕</button>
      </p>
      <el-form-item label="Add a part"><el-select filterable default-first-option @change="addPart"><el-option value="" label="choose a plan" /><el-option v-for="one in others" :key="one.code" :value="one.code" :label="`${one.name}`" /></el-select></el-form-item>
      <el-form-item label="Notes and run book text (Markdown)"><KeptInput long :value="plan.notes" :rows="4" maxlength="4000" placeholder="Whom to call, what to know before, where the paper is." @done="text('notes', $event)" /></el-form-item>
      <MarkdownText v-if="plan.notes" :text="plan.notes" class="notes" />
      <h2>Known traps of the plan</h2>
      <TrapsOf about="plan" :name="plan.code" />
    </div>
    <template #footer><el-button class="btn main" @click="open = false">Done</el-button></template>
  </el-dialog>
</template>

<style scoped>
.part {
  display: flex;
  gap: var(--gap-2);
  align-items: center;
  margin-bottom: 4px;
}
.part .el-select {
  width: 300px;
  margin-left: auto;
}
.notes {
  border-left: 3px solid var(--brass);
  padding-left: 10px;
  font-size: var(--text-s);
}
</style>
