<script setup lang="ts">
// Planned and actual: what every adapter should have had, and what the site said it had.
import { useQuery } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { useRoute } from "vue-router";
import { api, take } from "@/api/client";
import ProblemNote from "@/ui/ProblemNote.vue";
import { count } from "@/ui/format";

const route = useRoute();
const id = computed(() => Number(route.params.id));
const only = ref(false);
const { data, error } = useQuery({
  queryKey: ["run-landings", id],
  queryFn: () => take(api.GET("/api/v1/runs/{id}/landings", { params: { path: { id: id.value } } })),
});
const differing = computed(() => (data.value?.outcomes ?? []).filter((one) => one.differs));
const shown = computed(() => (only.value ? differing.value : (data.value?.outcomes ?? [])));
const sentence = computed(() => {
  const now = data.value;
  if (!now) return "";
  if (!now.said) return `${count(now.outcomes.length, "adapter")} ${now.outcomes.length === 1 ? "has" : "have"} a place. What they really have is asked once all is up.`;
  if (!differing.value.length) return `All ${count(now.outcomes.length, "adapter")} had what was planned.`;
  return `${differing.value.length} of ${count(now.outcomes.length, "adapter")} had not what was planned.`;
});
</script>

<template>
  <div class="page">
    <ProblemNote v-if="error && !data" :error="error" />
    <template v-if="data">
      <h1 class="sentence">{{ sentence }}</h1>
      <p class="bar">
        <RouterLink class="btn" :to="`/runs/${id}`">Back to the run</RouterLink>
        <el-checkbox v-if="differing.length" v-model="only">only what differs</el-checkbox>
      </p>
      <div class="scroll" tabindex="0"><table class="lines">
        <thead>
          <tr>
            <th>Workload</th>
            <th>Before</th>
            <th>Planned</th>
            <th>Actual</th>
            <th><span class="out-of-sight">As planned?</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in shown" :key="one.workload + one.nic" :data-landing="`${one.workload}/${one.nic}`">
            <td>
              <b>{{ one.workload }}</b> <span class="mono quiet">{{ one.nic }}</span>
            </td>
            <td class="mono">{{ one.before }}</td>
            <td class="mono">{{ one.planned }}</td>
            <td class="mono">{{ one.actual ?? "not said" }}</td>
            <td class="how">
              <span v-if="one.differs" class="bad">✕ {{ one.differs }}</span><span v-else-if="one.actual !== null">✓ as planned</span>
            </td>
          </tr>
        </tbody>
      </table></div>
    </template>
  </div>
</template>

<style scoped>
.bar {
  display: flex;
  gap: var(--gap-3);
  align-items: center;
  margin: var(--gap-3) 0;
}
.how {
  white-space: nowrap;
}
.check {
  display: inline-flex;
  gap: 6px;
}
</style>
