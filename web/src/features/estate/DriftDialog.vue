<script setup lang="ts">
// What a site agent says otherwise: looked at first, then taken over, all or part.
import { useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref, watch } from "vue";
import { api, take } from "@/api/client";
import ProblemNote from "@/ui/ProblemNote.vue";
import { count } from "@/ui/format";

const props = defineProps<{ code: string; name: string }>();
const open = defineModel<boolean>({ required: true });
const client = useQueryClient();
const code = computed(() => props.code);
const chosen = ref<string[]>([]);
const problem = ref<unknown>(null);
const { data, error, refetch } = useQuery({
  queryKey: ["drift", code],
  queryFn: () => take(api.GET("/api/v1/sites/{code}/drift", { params: { path: { code: code.value } } })),
  enabled: open,
  staleTime: 0,
});
watch(data, (now) => (chosen.value = (now?.differences ?? []).map((one) => one.id)));
const shapes = { new: "+", changed: "≠", gone: "−" } as const;

async function accept() {
  problem.value = null;
  try {
    await take(api.POST("/api/v1/sites/{code}/drift", { params: { path: { code: code.value } }, body: { ids: chosen.value } }));
    await client.invalidateQueries();
    if (chosen.value.length === data.value?.differences.length) open.value = false;
    else await refetch();
  } catch (caught) {
    problem.value = caught;
  }
}
</script>

<template>
  <el-dialog v-model="open" :title="`Where ${name} differs from the records`" width="min(680px, 94vw)">
    <ProblemNote v-if="error" :error="error" />
    <p v-else-if="data && !data.differences.length">Nothing differs: the records match what its agent says.</p>
    <ul v-else-if="data" class="list">
      <li v-for="one in data.differences" :key="one.id">
        <el-checkbox :model-value="chosen.includes(one.id)" @change="chosen = $event ? [...chosen, one.id] : chosen.filter((other) => other !== one.id)"><b>{{ shapes[one.change] }} {{ one.change }}</b> {{ one.kind }} <span class="mono">{{ one.name }}</span></el-checkbox>
        <table v-if="one.fields.length">
          <tr v-for="field in one.fields" :key="field.field">
            <td class="quiet">{{ field.field }}</td>
            <td class="mono">{{ field.known || "nothing" }}</td>
            <td>→</td>
            <td class="mono">{{ field.said || "nothing" }}</td>
          </tr>
        </table>
      </li>
    </ul>
    <ProblemNote v-if="problem" :error="problem" />
    <template #footer>
      <el-button class="btn" @click="open = false">Leave it</el-button>
      <el-button v-may="'change-estate'" class="btn main" :disabled="!chosen.length" @click="accept">Accept {{ count(chosen.length, "difference") }}</el-button>
    </template>
  </el-dialog>
</template>

<style scoped>
.list {
  max-height: 55vh;
  overflow-y: auto;
}
li {
  padding: 6px 0;
  border-bottom: 1px solid var(--rule-faint);
}
table {
  margin-left: 24px;
}
td {
  padding: 1px 10px 1px 0;
  vertical-align: top;
}
.btn {
  margin-left: var(--gap-2);
}
</style>
