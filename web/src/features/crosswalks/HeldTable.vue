<script setup lang="ts">
import { useQuery } from "@tanstack/vue-query";
import { computed } from "vue";
import { api, take } from "@/api/client";
import { useAct } from "@/ui/act";
import ProblemNote from "@/ui/ProblemNote.vue";
import { count } from "@/ui/format";

const props = defineProps<{ source: string; code: string; name: string }>();
const code = computed(() => props.code);
const { data, error } = useQuery({
  queryKey: ["held", code],
  queryFn: () => take(api.GET("/api/v1/sites/{code}/landings", { params: { path: { code: code.value } } })),
});
const { problem, busy, act } = useAct();
const mine = computed(() => (data.value ?? []).filter((one) => one.source === props.source));
const wrong = computed(() => mine.value.filter((one) => one.wrong).map((one) => one.workload));
const again = (workloads: string[]) => act(() => take(api.POST("/api/v1/sites/{code}/landings", { params: { path: { code: code.value } }, body: { workloads } })));
</script>

<template>
  <div>
    <ProblemNote v-if="error && !data" :error="error" />
    <ProblemNote v-if="problem" :error="problem" />
    <p v-if="data" class="said">
      {{ name }} keeps room, names and addresses for {{ count(mine.length - wrong.length, "protected workload") }}, so that everybody there sees what may arrive.
      <template v-if="wrong.length">
        <b class="bad">✕ {{ count(wrong.length, "landing") }} {{ wrong.length === 1 ? "is" : "are" }} not held as expected.</b>
        <el-button v-may="'change-crosswalks'" class="btn" :disabled="busy" @click="again(wrong)">Hold {{ wrong.length === 1 ? "it" : "them" }} again</el-button>
      </template>
    </p>
    <p v-if="data && !mine.length" class="quiet">Nothing yet: a landing is held once its workload is protected in this direction and everything about it is mapped and saved.</p>
    <table v-if="mine.length" class="lines">
      <thead>
        <tr>
          <th>Workload</th>
          <th>At</th>
          <th>Adapters</th>
          <th>As expected</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in mine" :key="one.workload" :data-held="one.workload">
          <td>
            <b>{{ one.workload }}</b>
          </td>
          <td class="mono">{{ one.host_pool || "nothing" }}</td>
          <td class="mono">{{ one.adapters.join("; ") }}</td>
          <td>
            <span v-if="!one.wrong">✓ held</span><span v-else class="bad">✕ {{ one.wrong }} <button v-may="'change-crosswalks'" class="link" :disabled="busy" @click="again([one.workload])">Hold it again</button></span>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.said {
  margin-bottom: var(--gap-2);
}
</style>
