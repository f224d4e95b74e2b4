<script setup lang="ts">
// Says that a form shows what was typed into it earlier, and offers what is saved instead.
defineProps<{ recovered: boolean }>();
const emit = defineEmits<{ discard: [] }>();
</script>

<template>
  <p v-if="recovered" class="quiet" role="status">
    This is what you typed here earlier and did not save. <button type="button" class="link" @click="emit('discard')">Discard it</button>
  </p>
</template>
