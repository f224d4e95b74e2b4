<script setup lang="ts">
const pages = [
  { to: "/settings", name: "Organisation" },
  { to: "/settings/people", name: "People" },
  { to: "/settings/sign-in", name: "Sign-in" },
  { to: "/settings/messages", name: "Messages" },
  { to: "/settings/names", name: "Names" },
  { to: "/settings/backups", name: "Backups" },
  { to: "/settings/retired", name: "Retired things" },
];
</script>

<template>
  <nav class="tabs" aria-label="Settings">
    <RouterLink v-for="page in pages" :key="page.to" :to="page.to" exact-active-class="on">{{ page.name }}</RouterLink>
  </nav>
</template>
