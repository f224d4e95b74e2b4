<script setup lang="ts">
// What somebody, or a program, says of the site that this plan would recover.
import { useQuery } from "@tanstack/vue-query";
import { computed } from "vue";
import { api, take } from "@/api/client";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAct } from "@/ui/act";
import { ago, moment } from "@/ui/format";
import { vMay } from "@/ui/may";

const props = defineProps<{ source: string }>();
const { data } = useQuery({ queryKey: ["declared"], queryFn: () => take(api.GET("/api/v1/declared")), refetchInterval: 15_000 });
const said = computed(() => (data.value ?? []).filter((one) => one.site === props.source));
const { problem, busy, act } = useAct();
const withdraw = (id: number) => act(() => take(api.DELETE("/api/v1/declared/{id}", { params: { path: { id } } })));
</script>

<template>
  <section v-for="one in said" :key="one.id" class="declared" role="status">
    <p>
      <b>{{ one.by }} says that {{ one.site_name }} is down since {{ moment(one.since, true) }}.</b> {{ one.reason }}
      <span class="quiet">Said {{ ago(one.again_at) }}; nothing was started.</span>
    </p>
    <p><el-button v-may="'declare-outages'" class="btn" :disabled="busy" @click="withdraw(one.id)">It is not down</el-button></p>
    <ProblemNote v-if="problem" :error="problem" />
  </section>
</template>

<style scoped>
.declared {
  padding: var(--gap-2) var(--gap-3);
  margin-bottom: var(--gap-3);
  border-left: 3px solid var(--disaster);
  background: var(--paper);
}
.declared p {
  margin: 0 0 var(--gap-1);
}
</style>
