import { keepPreviousData, useQuery } from "@tanstack/vue-query";
import { type Ref, computed, ref, watch } from "vue";
import { api, take } from "@/api/client";
import type { WorkloadBrief } from "@/api/types";

export const PAGE = 200;

/** Workloads that a filter finds, fetched by the page as they come into sight. */
export function useWorkloadPages(filter: Ref<string>, sort: Ref<string>) {
  const rows = ref(new Map<number, WorkloadBrief>());
  const asked = new Set<number>();
  const fetchPage = (offset: number, limit = PAGE) =>
    take(api.GET("/api/v1/workloads", { params: { query: { filter: filter.value, sort: sort.value, offset, limit } } }));

  const { data, error, refetch, isFetching } = useQuery({
    queryKey: ["workloads", filter, sort],
    queryFn: () => fetchPage(0),
    placeholderData: keepPreviousData,
    refetchInterval: 15_000,
  });
  watch(data, (page) => {
    if (!page) return;
    rows.value = new Map(page.rows.map((row, i) => [i, row]));
    asked.clear();
    asked.add(0);
  }, { immediate: true });

  /** Make sure that the rows from ``first`` to ``last`` are there. */
  async function see(first: number, last: number) {
    for (let page = Math.floor(first / PAGE); page <= Math.floor(last / PAGE); page += 1) {
      if (asked.has(page) || page * PAGE >= (data.value?.matched ?? 0)) continue;
      asked.add(page);
      const of = data.value;
      const found = await fetchPage(page * PAGE).catch(() => null);
      if (!found) asked.delete(page);
      else if (of === data.value) found.rows.forEach((row, i) => rows.value.set(page * PAGE + i, row));
    }
  }
  /** Names of all that the filter finds. */
  async function names(): Promise<string[]> {
    const found: string[] = [];
    for (let offset = 0; offset < matched.value; offset += 1000) found.push(...(await fetchPage(offset, 1000)).rows.map((row) => row.name));
    return found;
  }
  const matched = computed(() => data.value?.matched ?? 0);
  return { data, rows, matched, error, see, names, refetch, isFetching };
}
