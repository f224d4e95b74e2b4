<script setup lang="ts">
// Parts of one page; the one that is open is in the address, so that it can be linked to.
defineProps<{ tabs: { key: string; name: string; mark?: string }[]; label: string }>();
const open = defineModel<string>({ required: true });
</script>

<template>
  <div class="tabs" role="tablist" :aria-label="label">
    <button v-for="tab in tabs" :key="tab.key" role="tab" :aria-selected="open === tab.key" :class="{ on: open === tab.key }" @click="open = tab.key">
      {{ tab.name }}<span v-if="tab.mark" class="mark">{{ tab.mark }}</span>
    </button>
  </div>
</template>

<style scoped>
.mark {
  margin-left: 6px;
  color: var(--brass);
}
</style>
