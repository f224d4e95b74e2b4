<script setup lang="ts">
// What somebody, or a program, is told of.
import type { Topic } from "@/api/types";

defineProps<{ topics: Topic[]; label: string }>();
const chosen = defineModel<string[]>({ required: true });
const capital = (words: string) => words.charAt(0).toUpperCase() + words.slice(1);
</script>

<template>
  <el-checkbox-group v-model="chosen" :aria-label="label" class="topics">
    <el-checkbox v-for="one in topics" :key="one.code" :value="one.code">{{ capital(one.words) }}</el-checkbox>
  </el-checkbox-group>
</template>

<style scoped>
.topics {
  display: grid;
  gap: var(--gap-1);
  font-size: inherit;
  line-height: inherit;
}
</style>
