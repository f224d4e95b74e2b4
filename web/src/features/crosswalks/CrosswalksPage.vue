<script setup lang="ts">
import { useQuery } from "@tanstack/vue-query";
import { computed } from "vue";
import { api, take } from "@/api/client";
import type { CrosswalkLine } from "@/api/types";
import ProblemNote from "@/ui/ProblemNote.vue";
import { count, list } from "@/ui/format";

const { data, error } = useQuery({ queryKey: ["crosswalks"], queryFn: () => take(api.GET("/api/v1/crosswalks")) });
const made = computed(() => (data.value ?? []).filter((one) => one.revision > 0));
const open = computed(() => (data.value ?? []).filter((one) => one.revision === 0));
const wanted = (one: CrosswalkLine) => one.plans.length > 0 || one.has_twin;
const sentence = computed(() => {
  if (!data.value) return "";
  if (!data.value.length) return "A crosswalk says what takes whose place at another site. Two sites are needed for one.";
  if (!made.value.length) return "No crosswalk is made yet: nothing that is protected has a place to land.";
  const bad = made.value.filter((one) => one.blocks);
  const first = `${count(made.value.length, "crosswalk")} ${made.value.length === 1 ? "says" : "say"} where things land.`;
  const ways = list(bad.map((one) => `${one.source_name} to ${one.target_name}`));
  const second = bad.length ? ` Not everything of ${ways} has a place that works.` : " Everything has a place that works.";
  const back = open.value.filter((one) => one.has_twin).map((one) => `${one.source_name} to ${one.target_name}`);
  return first + second + (back.length ? ` The reverse crosswalk is missing: ${list(back)}.` : "");
});
</script>

<template>
  <div class="page">
    <ProblemNote v-if="error && !data" :error="error" />
    <template v-if="data">
      <h1 class="sentence">{{ sentence }}</h1>
      <div v-if="made.length" class="scroll" tabindex="0"><table class="lines all">
        <thead>
          <tr>
            <th>Direction</th>
            <th>Workloads there</th>
            <th>Findings</th>
            <th>Not mapped</th>
            <th>Held landings</th>
            <th>Plans that land by it</th>
            <th>Reverse crosswalk</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in made" :key="one.source + one.target" :data-way="`${one.source}-${one.target}`">
            <td><RouterLink :to="`/crosswalks/${one.source}/${one.target}`" class="name">{{ one.source_name }} → {{ one.target_name }}</RouterLink></td>
            <td class="mono">{{ one.workloads }}</td>
            <td>
              <span v-if="one.blocks" class="bad">■ {{ one.blocks }} block{{ one.blocks === 1 ? "s" : "" }}</span>
              <span v-if="one.warns"> ▲ {{ one.warns }} warn{{ one.warns === 1 ? "s" : "" }}</span>
              <span v-if="!one.blocks && !one.warns">✓ none</span>
            </td>
            <td>{{ one.unmapped ? count(one.unmapped, "thing") : "✓ nothing" }}</td>
            <td>
              {{ one.held }}<span v-if="one.held_wrong" class="bad"> ✕ {{ one.held_wrong }} not as expected</span>
            </td>
            <td class="mono">{{ one.plans.join(", ") || "none" }}</td>
            <td><span v-if="one.has_twin">✓ there</span><span v-else>▲ missing</span></td>
          </tr>
        </tbody>
      </table></div>
      <template v-if="open.length">
        <h2 class="head">No crosswalk yet</h2>
        <div class="scroll" tabindex="0"><table class="lines all">
          <tr v-for="one in open" :key="one.source + one.target" :data-way="`${one.source}-${one.target}`">
            <td>{{ one.source_name }} → {{ one.target_name }}</td>
            <td>{{ count(one.workloads, "workload") }} at {{ one.source_name }}<b v-if="wanted(one)">; {{ one.plans.length ? `${list(one.plans)} would land by it` : "it would be the way back" }}</b></td>
            <td class="right"><RouterLink v-may="'change-crosswalks'" :to="`/crosswalks/${one.source}/${one.target}`" class="btn">Make it</RouterLink></td>
          </tr>
        </table></div>
      </template>
    </template>
    <p v-else-if="!error" class="quiet">One moment …</p>
  </div>
</template>

<style scoped>
.all {
  margin-top: var(--gap-3);
}
.name {
  font-weight: 700;
  text-decoration: none;
}
.name:hover {
  text-decoration: underline;
}
.head {
  margin-top: var(--gap-5);
}
.right {
  text-align: right;
}
</style>
