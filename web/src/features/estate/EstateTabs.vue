<script setup lang="ts">
const pages = [
  { to: "/estate", name: "Workloads" },
  { to: "/estate/sites", name: "Sites and networks" },
  { to: "/estate/uses", name: "Dependencies" },
  { to: "/estate/import", name: "Import" },
];
</script>

<template>
  <nav class="tabs" aria-label="Estate">
    <RouterLink v-for="page in pages" :key="page.to" :to="page.to" exact-active-class="on">{{ page.name }}</RouterLink>
  </nav>
</template>
