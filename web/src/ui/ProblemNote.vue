<script setup lang="ts">
import { computed } from "vue";
import { ApiError, sentenceOf } from "@/api/client";
import AskApproval from "@/ui/AskApproval.vue";

const props = defineProps<{ error: unknown }>();
const deed = computed(() => (props.error instanceof ApiError ? props.error.deed : undefined));
</script>

<template>
  <div class="problem" role="alert">
    {{ sentenceOf(error) }}
    <AskApproval v-if="deed" :deed="deed" />
  </div>
</template>

<style scoped>
.problem {
  border-left: 4px solid var(--disaster);
  background: var(--disaster-soft);
  padding: 8px 12px;
  margin: 8px 0;
}
</style>
