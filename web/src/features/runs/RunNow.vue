<script setup lang="ts">
// What is under way at the sites this moment, each with the traps that are known of it.
import type { ScoreStep, TrapView } from "@/api/types";

defineProps<{ steps: ScoreStep[]; lostSites: Record<string, string>; underWay: Record<string, string>; trapsAt: (step: ScoreStep) => TrapView[] }>();
const emit = defineEmits<{ open: [step: string] }>();
</script>

<template>
  <section v-if="steps.length">
    <h2>Now</h2>
    <ul class="now">
      <li v-for="step in steps" :key="step.id">
        <button class="link" @click="emit('open', step.id)">
          <span class="mono">{{ step.workload ?? step.id.split(":")[1] ?? "site" }}</span>
        </button>
        {{ lostSites[step.site ?? ""] ? "unreachable" : step.title.toLowerCase() }}<template v-if="underWay[step.id]">: {{ underWay[step.id] }}</template>
        <p v-for="trap in trapsAt(step)" :key="trap.id" class="trap">⚑ {{ trap.text }}</p>
      </li>
    </ul>
  </section>
</template>

<style scoped>
.now li {
  padding: 2px 0;
}
.trap {
  border-left: 3px solid var(--brass);
  padding-left: 8px;
}
</style>
