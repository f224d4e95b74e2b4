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
.tabs {
  display: flex;
  gap: var(--gap-4);
  margin: var(--gap-3) 0;
  border-bottom: 1px solid var(--rule);
}
button {
  font: inherit;
  background: none;
  border: 0;
  border-bottom: 2px solid transparent;
  padding: 4px 2px 6px;
  color: var(--ink-2);
  cursor: pointer;
}
.on {
  color: var(--ink-1);
  font-weight: 600;
  border-bottom-color: var(--brass);
}
.mark {
  margin-left: 6px;
  color: var(--brass);
}
</style>
