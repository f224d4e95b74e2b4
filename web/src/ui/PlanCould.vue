<script setup lang="ts">
// Whether a plan could run now, kind by kind, and what is in the way.
import { computed } from "vue";
import type { Standing } from "@/api/types";
import { list } from "@/ui/format";
import { verdicts, why } from "@/ui/standing";

const props = defineProps<{ code: string; kinds: Standing["kinds"]; activeRun: number | null }>();
const found = computed(() => verdicts(props.kinds));
</script>

<template>
  <RouterLink v-if="activeRun" :to="`/runs/${activeRun}`" class="to">a run is under way</RouterLink>
  <template v-else>
    <p v-for="one in found" :key="one.kinds[0]" class="verdict">
      <RouterLink :to="one.blocking.length ? `/plans/${code}` : `/plans/${code}/start`" class="to" :class="{ bad: one.blocking.length }">
        {{ one.blocking.length ? "✕" : "✓" }} {{ list(one.kinds) }}
      </RouterLink>
      <small :class="one.blocking.length ? 'bad' : 'quiet'" :title="one.blocking.join('\n')">{{ why(one) }}</small>
    </p>
  </template>
</template>

<style scoped>
.verdict + .verdict {
  margin-top: 4px;
}
small {
  display: block;
}
.to {
  text-decoration: none;
}
.to:hover {
  text-decoration: underline;
}
</style>
