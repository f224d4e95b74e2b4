<script setup lang="ts">
// From one site to another by their codes; the names show when the pointer rests on them, and are read out.
import { useSiteLine } from "@/api/queries";

defineProps<{ source: string; target: string }>();
const { data: line } = useSiteLine();
const nameOf = (code: string) => line.value?.stations.find((station) => station.code === code)?.name ?? code;
</script>

<template>
  <span class="mono way"><abbr :title="nameOf(source)">{{ source }}</abbr> → <abbr :title="nameOf(target)">{{ target }}</abbr></span>
</template>

<style scoped>
.way {
  white-space: nowrap;
}
abbr {
  text-decoration: none;
}
</style>
