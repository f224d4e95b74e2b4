<script setup lang="ts">
// Notes and files that were added after the end of a run, apart from what was sealed.
import { ref, useTemplateRef } from "vue";
import { api, take } from "@/api/client";
import type { AdditionView } from "@/api/types";
import { asFile } from "@/api/upload";
import MarkdownText from "@/ui/MarkdownText.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAct } from "@/ui/act";
import { exactMoment, size } from "@/ui/format";

const props = defineProps<{ run: number; additions: AdditionView[] }>();
const at = (name: string) => `/api/v1/runs/${props.run}/${name}`;
const { problem, busy, act } = useAct();
const note = ref("");
const picked = useTemplateRef<HTMLInputElement>("picked");
async function addNote() {
  await act(() => take(api.POST("/api/v1/runs/{id}/notes", { params: { path: { id: props.run } }, body: { text: note.value } })));
  if (!problem.value) note.value = "";
}
async function addFile() {
  const file = picked.value?.files?.[0];
  if (!file) return;
  await act(() => take(api.POST("/api/v1/runs/{id}/files", { params: { path: { id: props.run }, query: { name: file.name, type: file.type } }, ...asFile(file) })));
  if (picked.value) picked.value.value = "";
}
</script>

<template>
  <section>
    <h2>Added later</h2>
    <p class="quiet">Kept apart from what was sealed, each signed on its own.</p>
    <ul class="added">
      <li v-for="one in additions" :key="one.number" :data-addition="one.number">
        <p class="quiet">{{ exactMoment(one.at) }}, {{ one.by }} <b v-if="!one.holds" class="bad">✕ not as it was signed</b></p>
        <MarkdownText v-if="one.text" :text="one.text" />
        <a v-if="one.name" :href="at(`files/${one.number}`)" download>{{ one.name }}</a> <span v-if="one.name" class="quiet">{{ size(one.size) }}</span>
      </li>
    </ul>
    <ProblemNote v-if="problem" :error="problem" />
    <form class="form" @submit.prevent="addNote">
      <el-form-item label="A note, a lesson"><el-input v-model="note" type="textarea" :rows="3" maxlength="8000" /></el-form-item>
      <el-button v-may="'annotate'" class="btn" :disabled="!note.trim() || busy" native-type="submit">Add it</el-button>
    </form>
    <p class="attach"><label>Attach a file, up to 10 MiB <input ref="picked" type="file" :disabled="busy" @change="addFile" /></label></p>
  </section>
</template>

<style scoped>
h2 {
  margin: var(--gap-4) 0 var(--gap-1);
}
.added li {
  border-left: 3px solid var(--brass);
  padding-left: var(--gap-2);
  margin: var(--gap-2) 0;
}
.attach {
  margin-top: var(--gap-3);
  color: var(--ink-2);
}
.attach input {
  display: block;
  max-width: 100%;
  font: inherit;
}
</style>
