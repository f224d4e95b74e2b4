<script setup lang="ts">
// What a site was asked for outside of runs, and what became of it.
import { useInfiniteQuery } from "@tanstack/vue-query";
import { computed } from "vue";
import { api, take } from "@/api/client";
import type { RequestView } from "@/api/types";
import ProblemNote from "@/ui/ProblemNote.vue";
import { ago } from "@/ui/format";

const props = defineProps<{ name: string; code: string }>();
const open = defineModel<boolean>({ required: true });
const { data, error, fetchNextPage, hasNextPage } = useInfiniteQuery({
  queryKey: ["site-requests", computed(() => props.code)],
  queryFn: ({ pageParam }) => take(api.GET("/api/v1/site-requests", { params: { query: { site: props.code, ...(pageParam ? { cursor: pageParam } : {}) } } })),
  initialPageParam: "",
  getNextPageParam: (last) => last.next,
});
const requests = computed(() => [...(data.value?.pages[0]?.waiting ?? []), ...(data.value?.pages.flatMap((page) => page.settled) ?? [])]);
const marks = { waiting: "…", done: "✓", failed: "✕", withdrawn: "−" } as const;

function became(one: RequestView): string {
  if (one.status === "done") return one.tries > 1 ? `done at try ${one.tries}` : "done";
  if (one.status === "failed") return `failed: ${one.reason}`;
  if (one.status === "withdrawn") return one.reason ? `withdrawn: ${one.reason}` : "not asked for any more";
  if (!one.tries) return "waits until the site answers";
  return one.reason ? `waits, try ${one.tries} is next: ${one.reason}` : "under way";
}
</script>

<template>
  <el-dialog v-model="open" :title="`Requests to ${name}`" width="min(860px, 94vw)">
    <ProblemNote v-if="error" :error="error" />
    <p v-else-if="!data" class="quiet">It is being read.</p>
    <p v-else-if="!requests.length">Nothing yet. What runs ask of it stands in the runs.</p>
    <template v-else>
      <p class="quiet">What it does not do at once is brought to it again until it has, each failed try under a new key. What runs ask of it stands in the runs.</p>
      <div class="list">
        <el-table :data="requests" size="small">
          <el-table-column label="Asked" width="110">
            <template #default="{ row }">{{ ago(row.asked_at) }}</template>
          </el-table-column>
          <el-table-column label="By" prop="by" width="100" />
          <el-table-column label="What" width="240">
            <template #default="{ row }">{{ row.verb }} <span class="mono">{{ row.subject }}</span></template>
          </el-table-column>
          <el-table-column label="Result">
            <template #default="{ row }">{{ marks[row.status as RequestView["status"]] }} {{ became(row as RequestView) }}</template>
          </el-table-column>
        </el-table>
        <p v-if="hasNextPage"><el-button class="btn" @click="fetchNextPage()">Older ones</el-button></p>
      </div>
    </template>
    <template #footer>
      <el-button class="btn" @click="open = false">Close</el-button>
    </template>
  </el-dialog>
</template>

<style scoped>
.list {
  max-height: 55vh;
  overflow-y: auto;
}
</style>
