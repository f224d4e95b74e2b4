<script setup lang="ts">
// A page while it loads, in the form of what comes: so many lines of heading, then blocks of so many pixels.
withDefaults(defineProps<{ heading?: number; blocks?: number[] }>(), { heading: 1, blocks: () => [40, 320] });
</script>

<template>
  <el-skeleton animated aria-label="Loading">
    <template #template>
      <el-skeleton-item v-for="line in heading" :key="`h${line}`" variant="h1" class="line" />
      <el-skeleton-item v-for="(high, at) in blocks" :key="at" variant="rect" class="block" :style="{ height: `${high}px` }" />
    </template>
  </el-skeleton>
</template>

<style scoped>
.line {
  display: block;
  height: 22px;
  width: min(680px, 80%);
  margin-bottom: 8px;
}
.block {
  display: block;
  margin-top: var(--gap-4);
}
</style>
