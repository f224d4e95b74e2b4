<script setup lang="ts">
import { sentenceOf } from "@/api/client";

defineProps<{ error: unknown }>();
</script>

<template>
  <p class="problem" role="alert">{{ sentenceOf(error) }}</p>
</template>

<style scoped>
.problem {
  border-left: 4px solid var(--disaster);
  background: var(--disaster-soft);
  padding: 8px 12px;
  margin: 8px 0;
}
</style>
