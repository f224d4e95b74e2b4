<script setup lang="ts">
const pages = [
  { to: "/estate", name: "Workloads" },
  { to: "/estate/sites", name: "Sites and networks" },
  { to: "/estate/uses", name: "What uses what" },
  { to: "/estate/import", name: "Bring a file in" },
];
</script>

<template>
  <nav class="tabs" aria-label="Estate">
    <RouterLink v-for="page in pages" :key="page.to" :to="page.to" exact-active-class="on">{{ page.name }}</RouterLink>
  </nav>
</template>

<style scoped>
.tabs {
  display: flex;
  gap: var(--gap-4);
  margin: var(--gap-3) 0;
  border-bottom: 1px solid var(--rule);
}
a {
  padding: 4px 2px 6px;
  text-decoration: none;
  color: var(--ink-2);
  border-bottom: 2px solid transparent;
}
.on {
  color: var(--ink-1);
  font-weight: 600;
  border-bottom-color: var(--brass);
}
</style>
