<script setup lang="ts">
const pages = [
  { to: "/evidence", name: "What is proved" },
  { to: "/evidence/calendar", name: "Drill calendar" },
  { to: "/evidence/check", name: "Check a file" },
  { to: "/evidence/audit", name: "Audit trail" },
];
</script>

<template>
  <nav class="tabs" aria-label="Evidence">
    <RouterLink v-for="page in pages" :key="page.to" :to="page.to" exact-active-class="on">{{ page.name }}</RouterLink>
  </nav>
</template>
