<script setup lang="ts">
// The form in front of everything: signing in, and choosing a password.
defineProps<{ heading: string }>();
const emit = defineEmits<{ done: [] }>();
</script>

<template>
  <div class="door">
    <form @submit.prevent="emit('done')">
      <p class="mark"><b>m</b>aestoso</p>
      <h1 class="sentence">{{ heading }}</h1>
      <slot />
    </form>
  </div>
</template>

<style scoped>
.door {
  min-height: 90vh;
  display: grid;
  place-items: center;
  padding: var(--gap-4);
}
form {
  width: min(420px, 100%);
  display: grid;
  gap: var(--gap-3);
}
.mark {
  font-family: var(--serif);
  font-size: var(--text-sentence);
  font-weight: 700;
}
.mark b {
  color: var(--brass);
}
</style>
