<script setup lang="ts">
// Instructions that people write, as Markdown made safe: no HTML of theirs is ever taken over.
import { computed } from "vue";
import { render } from "@/ui/markdown";

const props = defineProps<{ text: string }>();
const html = computed(() => render(props.text));
</script>

<template>
  <!-- eslint-disable-next-line vue/no-v-html -- made by render, which knows no raw HTML and sanitises links -->
  <div class="markdown" v-html="html" />
</template>

<style>
.markdown p,
.markdown ul,
.markdown ol {
  margin: 0 0 6px;
}
.markdown ul,
.markdown ol {
  padding-left: 20px;
  list-style: revert;
}
.markdown > :last-child {
  margin-bottom: 0;
}
</style>
