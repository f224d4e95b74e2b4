<script setup lang="ts">
import type { Problem } from "@/api/types";

/** What the server said of the version in between; null is closed. */
const stale = defineModel<Problem | null>({ required: true });
const emit = defineEmits<{ "take-theirs": [] }>();
</script>

<template>
  <el-dialog :model-value="!!stale" title="Somebody saved in between" width="min(520px, 94vw)" @close="stale = null">
    <p>{{ stale?.detail }}</p>
    <p class="under">Your draft is kept. Nothing was saved.</p>
    <template #footer>
      <el-button class="btn" @click="stale = null">Leave my draft as it is</el-button>
      <el-button class="btn main" @click="emit('take-theirs')">Take their changes into my draft</el-button>
    </template>
  </el-dialog>
</template>
