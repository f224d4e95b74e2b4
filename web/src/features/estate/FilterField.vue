<script setup lang="ts">
// The filter language, with what is wrong pointed at, and filters that one named.
import { useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref, useTemplateRef, watch } from "vue";
import { ApiError, api, take } from "@/api/client";
import { useSites } from "@/api/queries";

const text = defineModel<string>({ required: true });
const props = defineProps<{ error: unknown }>();
const client = useQueryClient();
const typed = ref(text.value);
const field = useTemplateRef<HTMLInputElement>("field");
const naming = ref("");
const MOST_SITES = 5;
let waiting = 0;
watch(text, (now) => (typed.value = now));
watch(typed, (now) => {
  window.clearTimeout(waiting);
  waiting = window.setTimeout(() => (text.value = now), 180);
});
const { data: saved } = useQuery({ queryKey: ["filters"], queryFn: () => take(api.GET("/api/v1/filters")) });

interface Place {
  at?: number;
  length?: number;
  suggestion?: string;
}
const wrong = computed(() => (props.error instanceof ApiError && props.error.problem.code === "bad-filter" ? (props.error.problem as typeof props.error.problem & Place) : null));
const parts = computed(() => {
  const at = wrong.value?.at ?? 0;
  const length = Math.max(wrong.value?.length ?? 0, 1);
  return [text.value.slice(0, at), text.value.slice(at, at + length) || " ", text.value.slice(at + length)];
});
async function save() {
  if (!naming.value.trim()) return;
  await take(api.POST("/api/v1/filters", { body: { name: naming.value, text: text.value } }));
  naming.value = "";
  await client.invalidateQueries({ queryKey: ["filters"] });
}
async function forget(name: string) {
  await take(api.DELETE("/api/v1/filters/{name}", { params: { path: { name } } }));
  await client.invalidateQueries({ queryKey: ["filters"] });
}
// The usual ones, for whoever has not learned the language: each writes its word, or takes it out again.
const { data: sites } = useSites();
const usual = computed(() => [
  ...(sites.value?.sites ?? []).slice(0, MOST_SITES).map((site) => ({ word: `site:${site.code}`, title: `at ${site.name}` })),
  { word: "-protected", title: "unprotected" },
  { word: "os:windows", title: "Windows" },
  { word: "os:linux", title: "Linux" },
]);
const has = (word: string) => typed.value.split(/\s+/).includes(word);
function switchWord(word: string) {
  const words = typed.value.split(/\s+/).filter(Boolean);
  typed.value = (has(word) ? words.filter((one) => one !== word) : [...words, word]).join(" ");
}
defineExpose({ focus: () => field.value?.focus() });
</script>

<template>
  <div class="filter">
    <el-input ref="field" v-model="typed" class="mono" spellcheck="false" aria-label="Filter" placeholder="site:QUA tag:app=booking nic:10.20.0.0/16 -protected" @keydown.esc="typed = ''" />
    <template v-if="text && !wrong">
      <el-input v-model="naming" class="name" aria-label="Name of the filter" placeholder="name it" @keydown.enter="save" />
      <el-button class="btn" :disabled="!naming.trim()" @click="save">Save filter</el-button>
    </template>
  </div>
  <p class="saved" role="group" aria-label="Usual filters">
    <button v-for="one in usual" :key="one.word" class="link chip" :class="{ on: has(one.word) }" :aria-pressed="has(one.word)" :title="one.word" @click="switchWord(one.word)">{{ one.title }}</button>
  </p>
  <p v-if="wrong" class="wrong" role="alert">
    <span class="mono">{{ parts[0] }}<u>{{ parts[1] }}</u>{{ parts[2] }}</span>
    {{ wrong.detail }} {{ wrong.remedy }}
    <button v-if="wrong.suggestion" class="link mono" @click="typed = wrong.suggestion">{{ wrong.suggestion }}</button>
  </p>
  <p v-if="saved?.length" class="saved">
    <span v-for="one in saved" :key="one.name" class="chip" :class="{ on: one.text === text }">
      <button class="link" @click="typed = one.text">{{ one.name }}</button>
      <button class="link quiet" :aria-label="`Forget the filter ${one.name}`" @click="forget(one.name)">✕</button>
    </span>
  </p>
</template>

<style scoped>
.filter {
  display: flex;
  gap: var(--gap-2);
}
.filter .mono {
  flex: 1;
  min-width: 0;
}
.name {
  width: 130px;
  font-family: inherit;
}
.wrong {
  color: var(--disaster);
  padding: 4px 0;
}
.wrong u {
  text-decoration: underline wavy;
  white-space: pre;
}
.saved {
  display: flex;
  flex-wrap: wrap;
  gap: var(--gap-2);
  padding-top: var(--gap-2);
}
.chip {
  border: 1px solid var(--rule);
  border-radius: 9px;
  padding: 0 8px;
  display: inline-flex;
  gap: 6px;
}
.chip.on {
  background: var(--brass-soft);
}
</style>
