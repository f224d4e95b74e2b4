<script setup lang="ts">
// The report and everything that proves it, to be kept elsewhere.
import { ref } from "vue";
import { api, take } from "@/api/client";
import { useDownload } from "@/api/download";
import ProblemNote from "@/ui/ProblemNote.vue";

const props = defineProps<{ run: number; sealed: boolean }>();
const at = (name: string) => `/api/v1/runs/${props.run}/${name}`;
const atPage = ref(0);
const printed = useDownload(async () => {
  const told = await take(api.GET("/api/v1/runs/{id}/report.pdf/progress", { params: { path: { id: props.run } } })).catch(() => null);
  atPage.value = told?.page ?? atPage.value;
});
function print() {
  atPage.value = 0;
  return printed.download(at("report.pdf"), `run-${props.run}.report.pdf`);
}
defineExpose({ print });
</script>

<template>
  <section>
    <h2>Export</h2>
    <ul class="files">
      <li><a v-may="'take-evidence'" class="btn" :href="at('report.html')" target="_blank" rel="noopener">Report as a page</a></li>
      <li>
        <el-button v-may="'take-evidence'" class="btn" :disabled="printed.busy.value" @click="print">{{ printed.busy.value ? (atPage ? `Making page ${atPage} …` : "Making it …") : "Report as PDF" }}</el-button>
      </li>
      <li><a v-may="'take-evidence'" :href="at('report.json')" download>Data (JSON)</a> · <a v-may="'take-evidence'" :href="at('report.csv')" download>Steps (CSV)</a></li>
      <li v-if="sealed">
        <a v-may="'take-evidence'" :href="at('evidence.jsonl')" download>Evidence file</a>
        <p class="quiet">Every event and the seal: anybody can <RouterLink to="/evidence/check">check it</RouterLink>, with or without Maestoso.</p>
      </li>
    </ul>
    <ProblemNote v-if="printed.problem.value" :error="printed.problem.value" />
  </section>
</template>

<style scoped>
h2 {
  margin: 0 0 var(--gap-1);
}
.files li {
  margin-bottom: var(--gap-2);
}
</style>
