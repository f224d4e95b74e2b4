<script setup lang="ts">
// The known traps of one thing, on the page of that thing.
import { useQuery } from "@tanstack/vue-query";
import { computed } from "vue";
import { api, take } from "@/api/client";
import KnownTraps from "@/ui/KnownTraps.vue";
import type { Thing } from "@/ui/traps";

const props = defineProps<Thing>();
const { data } = useQuery({
  queryKey: ["traps", computed(() => props.about), computed(() => props.name)],
  queryFn: () => take(api.GET("/api/v1/traps", { params: { query: { about: props.about, name: props.name } } })),
});
</script>

<template>
  <KnownTraps v-if="data" :traps="data" :things="[{ about, name }]" />
</template>
