<script setup lang="ts">
import { ref } from "vue";
import { api, take } from "@/api/client";
import type { Plan, PlanDetail, VersionView } from "@/api/types";
import ProblemNote from "@/ui/ProblemNote.vue";
import { ago } from "@/ui/format";

const props = defineProps<{ detail: PlanDetail }>();
const emit = defineEmits<{ restore: [plan: Plan, number: number] }>();
const shown = ref<VersionView | null>(null);
const problem = ref<unknown>(null);
async function show(number: number) {
  problem.value = null;
  try {
    shown.value = await take(api.GET("/api/v1/plans/{code}/versions/{number}", { params: { path: { code: props.detail.plan.code, number } } }));
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
      <button v-if="version.number !== detail.version" class="link" :aria-label="`Compare version ${version.number}`" @click="show(version.number)"> compare</button>
    </li>
  </ol>
  <el-dialog :model-value="!!shown" :title="`Since version ${shown?.number}`" width="520" @close="shown = null">
    <p v-if="!shown?.changes.length">Nothing is different: version {{ detail.version }} says the same.</p>
    <ul v-else class="changes">
      <li v-for="one in shown.changes" :key="one">{{ one }}</li>
    </ul>
    <template #footer>
      <button class="btn" @click="shown = null">Close</button>
      <button class="btn main" :disabled="!shown?.changes.length" @click="restore">Bring version {{ shown?.number }} back into the draft</button>
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
