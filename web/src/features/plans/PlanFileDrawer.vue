<script setup lang="ts">
// The draft as a plan file: edited as text, judged as one types, taken into the draft when it is right.
import { computed, ref, shallowRef, watch } from "vue";
import { api, take } from "@/api/client";
import type { Plan, PlanFileRead } from "@/api/types";
import PlanText from "@/features/plans/PlanText.vue";
import FindingList from "@/ui/FindingList.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { count } from "@/ui/format";

const props = defineProps<{ plan: Plan | null; title: string }>();
const open = defineModel<boolean>({ required: true });
const emit = defineEmits<{ take: [plan: Plan] }>();
const text = ref("");
const read = shallowRef<PlanFileRead | null>(null);
const problem = ref<unknown>(null);
const field = ref<InstanceType<typeof PlanText> | null>(null);
const names = computed(() => props.plan?.waves.flatMap((wave) => wave.members.map((member) => member.workload)) ?? []);

watch(
  open,
  async (now) => {
    if (!now) return;
    read.value = null;
    problem.value = null;
    text.value = "";
    if (!props.plan) return;
    try {
      const body = { plan: props.plan };
      text.value = (await take(api.POST("/api/v1/plans/{code}/file", { params: { path: { code: props.plan.code } }, body }))).text;
    } catch (caught) {
      problem.value = caught;
    }
  },
  { immediate: true },
);
let asked = 0;
let timer = 0;
watch(text, () => {
  window.clearTimeout(timer);
  if (text.value.trim()) timer = window.setTimeout(judge, 250);
  else read.value = null;
});
async function judge() {
  const mine = ++asked;
  try {
    const answer = await take(api.POST("/api/v1/plan-files", { body: { text: text.value } }));
    if (mine === asked) {
      read.value = answer;
      problem.value = null;
    }
  } catch (caught) {
    if (mine === asked) problem.value = caught;
  }
}
const other = computed(() => !!props.plan && !!read.value?.plan && (["code", "source", "target"] as const).some((key) => read.value?.plan?.[key] !== props.plan?.[key]));
async function bring(event: Event) {
  const input = event.target as HTMLInputElement;
  const file = input.files?.[0];
  if (file) text.value = await file.text();
  input.value = "";
}
function done() {
  if (!read.value?.plan) return;
  emit("take", read.value.plan);
  open.value = false;
}
</script>

<template>
  <el-drawer v-model="open" :title="title" size="min(760px, 96vw)">
    <ProblemNote v-if="problem" :error="problem" />
    <PlanText v-if="open" ref="field" v-model="text" :problems="read?.problems ?? []" :workloads="names" />
    <p v-if="read && !read.problems.length" class="said">✓ It reads as {{ read.plan?.name }}, with {{ count(read.plan?.waves.reduce((sum, wave) => sum + wave.members.length, 0) ?? 0, "workload") }} in {{ count(read.plan?.waves.length ?? 0, "wave") }}.</p>
    <ul v-if="read?.problems.length" class="problems">
      <li v-for="one in read.problems" :key="`${one.line}:${one.column}${one.sentence}`">
        <button class="link mono" @click="field?.goTo(one.line, one.column)">line {{ one.line }}, column {{ one.column }}</button> {{ one.sentence }} <span class="quiet">{{ one.remedy }}</span>
      </li>
    </ul>
    <FindingList v-if="read?.findings.length" :findings="read.findings" compact />
    <p v-if="other" class="bad">✕ Code and direction of a plan stay; make another plan for these.</p>
    <p class="bar">
      <el-button class="btn main" :disabled="!read?.plan || other" @click="done">Take it into the draft</el-button>
      <label class="btn">Read a file <input type="file" accept=".yaml,.yml" class="file" aria-label="Plan file from disk" @change="bring" /></label>
      <a v-if="plan" class="btn" :href="`/api/v1/plans/${plan.code}/file`" download>Save the newest version as a file</a>
    </p>
  </el-drawer>
</template>

<style scoped>
.said,
.problems {
  margin: var(--gap-2) 0;
}
.problems li {
  padding: 3px 0;
}
.bar {
  display: flex;
  gap: var(--gap-2);
  margin-top: var(--gap-3);
}
.file {
  position: absolute;
  width: 1px;
  height: 1px;
  opacity: 0;
}
label:focus-within {
  outline: 2px solid var(--brass);
}
</style>
