<script setup lang="ts">
// How far a job is that somebody waits for, and the way to stop it.
import type { JobView } from "@/api/types";
import { progressOf } from "@/ui/jobs";

defineProps<{ job: JobView | null }>();
defineEmits<{ cancel: [] }>();
</script>

<template>
  <span class="job" role="status">
    <el-progress v-if="job?.total" :percentage="Math.round((100 * job.done) / job.total)" :show-text="false" aria-hidden="true" />
    <span class="quiet">{{ job ? progressOf(job) : "Asking for it" }} …</span>
    <button v-if="job && !job.cancelling" class="link" @click="$emit('cancel')">Cancel</button>
  </span>
</template>

<style scoped>
.job {
  display: inline-flex;
  gap: var(--gap-2);
  align-items: center;
}
.el-progress {
  width: 90px;
}
</style>
