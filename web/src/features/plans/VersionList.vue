<script setup lang="ts">
import { ref, shallowRef } from "vue";
import { api, take } from "@/api/client";
import type { Plan, PlanDetail, VersionView } from "@/api/types";
import ProblemNote from "@/ui/ProblemNote.vue";
import { ago } from "@/ui/format";

const props = defineProps<{ detail: PlanDetail }>();
const emit = defineEmits<{ restore: [plan: Plan, number: number] }>();
const shown = shallowRef<VersionView | null>(null);
const problem = ref<unknown>(null);
async function show(number: number, against: number) {
  problem.value = null;
  try {
    shown.value = await take(api.GET("/api/v1/plans/{code}/versions/{number}", { params: { path: { code: props.detail.plan.code, number }, query: { against } } }));
  } catch (caught) {
    problem.value = caught;
  }
}
function restore() {
  if (shown.value) emit("restore", shown.value.plan, shown.value.number);
  shown.value = null;
}
</script>

<template>
  <ProblemNote v-if="problem" :error="problem" />
  <ol class="versions">
    <li v-for="version in detail.versions" :key="version.number">
      <b>{{ version.number }}</b> {{ version.summary }} <span class="quiet">{{ version.author }}, {{ ago(version.saved_at) }}</span>
      <button v-if="version.number !== detail.version" class="link" :aria-label="`Compare version ${version.number}`" @click="show(version.number, detail.version)"> compare</button>
    </li>
  </ol>
  <el-dialog :model-value="!!shown" :title="`From version ${shown?.number} to version ${shown?.against}`" width="min(520px, 94vw)" @close="shown = null">
    <p v-if="shown && detail.versions.length > 2">
      <el-form-item label="From"><el-select class="entry" :model-value="shown.number" aria-label="From version" filterable default-first-option @change="show(Number($event), shown.against)"><el-option v-for="one in detail.versions" :key="one.number" :value="one.number" :label="`${one.number}`" /></el-select></el-form-item>
      <el-form-item label="to"><el-select class="entry" :model-value="shown.against" aria-label="To version" filterable default-first-option @change="show(shown.number, Number($event))"><el-option v-for="one in detail.versions" :key="one.number" :value="one.number" :label="`${one.number}`" /></el-select></el-form-item>
    </p>
    <p v-if="!shown?.changes.length">Nothing is different: version {{ shown?.against }} says the same.</p>
    <ul v-else class="changes">
      <li v-for="one in shown.changes" :key="one">{{ one }}</li>
    </ul>
    <template #footer>
      <el-button class="btn" @click="shown = null">Close</el-button>
      <el-button class="btn main" :disabled="!shown?.changes.length" @click="restore">Bring version {{ shown?.number }} back into the draft</el-button>
    </template>
  </el-dialog>
</template>

<style scoped>
.versions li,
.changes li {
  padding: 4px 0;
  border-bottom: 1px solid var(--rule-faint);
}
</style>
