<script setup lang="ts">
// When a plan was last proved, and what came of it.
import type { Standing } from "@/api/types";
import { ago } from "@/ui/format";

defineProps<{ proof: Standing["last_proof"] }>();
</script>

<template>
  <RouterLink v-if="proof" :to="`/runs/${proof.run}`" :class="{ bad: proof.overdue || proof.verdict === 'failed' }">
    {{ proof.verdict === "passed" ? "✓" : "✕" }} {{ proof.verdict }} {{ ago(proof.ended_at) }}<template v-if="proof.overdue">, overdue</template>
  </RouterLink>
  <span v-else class="bad">✕ never tested</span>
</template>

<style scoped>
a {
  text-decoration: none;
}
a:hover {
  text-decoration: underline;
}
</style>
