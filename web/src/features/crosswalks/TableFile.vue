<script setup lang="ts">
// The address table as a file: read, looked at, then taken into the draft.
import { ref } from "vue";
import { api, take } from "@/api/client";
import type { Crosswalk, TableRead } from "@/api/types";
import ProblemNote from "@/ui/ProblemNote.vue";
import { count } from "@/ui/format";

const props = defineProps<{ crosswalk: Crosswalk }>();
const emit = defineEmits<{ edit: [change: (next: Crosswalk) => void] }>();
const read = ref<TableRead | null>(null);
const problem = ref<unknown>(null);
const EXAMPLE = "workload,nic,side,mac,disconnected,network,dhcp,addresses,gateways,dns";

async function look(event: Event) {
  const field = event.target as HTMLInputElement;
  const file = field.files?.[0];
  if (!file) return;
  read.value = null;
  problem.value = null;
  try {
    const params = { path: { source: props.crosswalk.source, target: props.crosswalk.target } };
    read.value = await take(api.POST("/api/v1/crosswalks/{source}/{target}/table.csv", { params, body: { text: await file.text() } }));
  } catch (caught) {
    problem.value = caught;
  } finally {
    field.value = "";
  }
}
function takeOver() {
  const entries = read.value?.entries ?? [];
  const named = new Set(entries.map((one) => `${one.workload}/${one.nic}`));
  emit("edit", (next) => {
    next.table = [...next.table.filter((one) => !named.has(`${one.workload}/${one.nic}`)), ...entries];
  });
  read.value = null;
}
</script>

<template>
  <section>
    <h2>Address table</h2>
    <p class="bar">
      {{ count(crosswalk.table.length, "adapter has an entry", "adapters have entries") }}, which override every rule.
      <a class="btn" :href="`/api/v1/crosswalks/${crosswalk.source}/${crosswalk.target}/table.csv`" download>Save as CSV</a>
      <label class="btn">Import a CSV file <input type="file" accept=".csv,text/csv" class="file" aria-label="CSV file with table entries" @change="look" /></label>
      <span class="quiet mono small">{{ EXAMPLE }}</span>
    </p>
    <ProblemNote v-if="problem" :error="problem" />
    <template v-if="read">
      <p>
        {{ count(read.entries.length, "entry", "entries") }} can be taken<template v-if="read.complaints.length">, {{ count(read.complaints.length, "row") }} cannot</template>.
        <el-button class="btn main" :disabled="!read.entries.length" @click="takeOver">Take {{ count(read.entries.length, "entry", "entries") }} into the draft</el-button>
        <el-button class="btn" @click="read = null">Leave them</el-button>
      </p>
      <table v-if="read.complaints.length" class="lines">
        <tr v-for="one in read.complaints" :key="one.row + one.column">
          <td class="mono">row {{ one.row }}</td>
          <td class="mono">{{ one.column }}</td>
          <td>{{ one.sentence }}</td>
        </tr>
      </table>
    </template>
  </section>
</template>

<style scoped>
section {
  margin-top: var(--gap-5);
}
.bar {
  display: flex;
  gap: var(--gap-3);
  align-items: center;
  flex-wrap: wrap;
}
.file {
  position: absolute;
  width: 1px;
  height: 1px;
  opacity: 0;
}
label:focus-within {
  outline: 2px solid var(--brass);
}
.small {
  font-size: var(--text-s);
}
</style>
