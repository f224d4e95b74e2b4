<script setup lang="ts">
// A document of ours, or a part of one, with links that stay inside the application.
import { computed } from "vue";
import { useRouter } from "vue-router";
import { renderHelp } from "@/ui/help";

const props = defineProps<{ text: string }>();
const router = useRouter();
const html = computed(() => renderHelp(props.text));
function follow(event: MouseEvent) {
  const to = (event.target as Element).closest("a")?.getAttribute("href");
  if (!to?.startsWith("/help/") || event.ctrlKey || event.metaKey) return;
  event.preventDefault();
  void router.push(to);
}
</script>

<template>
  <!-- eslint-disable-next-line vue/no-v-html -- our own documents, by a reader that takes over no raw HTML -->
  <div class="help-text" @click="follow" v-html="html" />
</template>

<style>
.help-text {
  line-height: 1.55;
}
.help-text h1 {
  font-family: var(--serif);
  font-size: var(--text-sentence);
  font-weight: 600;
  margin-bottom: var(--gap-2);
}
.help-text h2 {
  color: var(--ink-1);
  font-size: var(--text-l);
  margin: var(--gap-5) 0 var(--gap-2);
}
.help-text h3 {
  font-size: var(--text-m);
  margin: var(--gap-4) 0 var(--gap-1);
}
.help-text p,
.help-text ul,
.help-text ol,
.help-text pre,
.help-text .scroll {
  margin: 0 0 10px;
}
.help-text ul,
.help-text ol {
  padding-left: 22px;
  list-style: revert;
}
.help-text code {
  font-family: var(--mono);
  font-size: 0.94em;
}
.help-text pre,
.help-text .scroll {
  overflow-x: auto;
}
.help-text pre {
  background: var(--rule-faint);
  padding: 8px 12px;
}
.help-text table {
  border-collapse: collapse;
}
.help-text th,
.help-text td {
  text-align: left;
  vertical-align: top;
  padding: 5px 14px 5px 0;
  border-bottom: 1px solid var(--rule-faint);
}
.help-text .pointed-at {
  background: var(--brass-soft);
}
</style>
