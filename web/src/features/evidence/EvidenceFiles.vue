<script setup lang="ts">
// The report and everything that proves it, to be kept elsewhere.
import { useTemplateRef } from "vue";
import FileButton from "@/ui/FileButton.vue";

const props = defineProps<{ run: number; sealed: boolean }>();
const at = (name: string) => `/api/v1/runs/${props.run}/${name}`;
const pdf = useTemplateRef<InstanceType<typeof FileButton>>("pdf");
defineExpose({ print: () => pdf.value?.make() });
</script>

<template>
  <section>
    <h2>Export</h2>
    <ul class="files">
      <li><a v-may="'take-evidence'" class="btn" :href="at('report.html')" target="_blank" rel="noopener">Report as a page</a></li>
      <li>
        <FileButton ref="pdf" :path="at('report.pdf')" may="take-evidence">Report as PDF</FileButton>
      </li>
      <li><a v-may="'take-evidence'" :href="at('report.json')" download>Data (JSON)</a> · <a v-may="'take-evidence'" :href="at('report.csv')" download>Steps (CSV)</a></li>
      <li v-if="sealed">
        <a v-may="'take-evidence'" :href="at('evidence.jsonl')" download>Evidence file</a>
        <p class="quiet">Every event and the seal: anybody can <RouterLink to="/evidence/check">check it</RouterLink>, with or without Maestoso.</p>
      </li>
    </ul>
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
