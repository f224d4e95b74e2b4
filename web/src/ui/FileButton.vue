<script setup lang="ts">
// A file that takes the server a while to make.
import { sentenceOf } from "@/api/client";
import { cancelJob, useFile } from "@/api/job";
import JobProgress from "@/ui/JobProgress.vue";

const props = defineProps<{ path: string; link?: boolean; may?: string }>();
const file = useFile();
const make = () => file.download(props.path);
defineExpose({ make });
</script>

<template>
  <span>
    <JobProgress v-if="file.busy.value" :job="file.job.value" @cancel="file.job.value && cancelJob(file.job.value)" />
    <button v-else-if="link" v-may="may ?? ''" class="link" @click="make"><slot /></button>
    <el-button v-else v-may="may ?? ''" class="btn" @click="make"><slot /></el-button>
    <span v-if="file.problem.value" class="bad" role="alert"> {{ sentenceOf(file.problem.value) }}</span>
  </span>
</template>
