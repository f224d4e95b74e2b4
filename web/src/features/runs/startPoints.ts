import { useQuery } from "@tanstack/vue-query";
import { computed, ref, type Ref } from "vue";
import { api, take } from "@/api/client";
import type { RecoveryPoint } from "@/api/types";

const ms = (point: RecoveryPoint) => new Date(point.at).getTime();

/** From which recovery points a run would start: one moment for all groups, single groups and workloads apart from it. */
export function useStartPoints(code: Ref<string>, wanted: Ref<boolean>) {
  const { data: points, error } = useQuery({
    queryKey: ["points", code],
    queryFn: () => take(api.GET("/api/v1/plans/{code}/points", { params: { path: { code: code.value } } })),
    // A group that runs away has no points at its target, and whoever copies it back needs none.
    enabled: computed(() => wanted.value),
    refetchOnWindowFocus: false,
    staleTime: Infinity,
  });
  /** The moment that was chosen, in ms; null is the newest. */
  const moment = ref<number | null>(null);
  /** Point by group, where it is not that of the moment. */
  const groups = ref<Record<string, string>>({});
  /** Point by workload, where it is not that of its group. */
  const workloads = ref<Record<string, string>>({});
  const now = computed(() => (points.value ? new Date(points.value.now).getTime() : 0));
  const at = computed(() => moment.value ?? now.value);
  const chosen = computed<Record<string, RecoveryPoint | undefined>>(() =>
    Object.fromEntries(
      (points.value?.groups ?? []).map((group) => [
        group.group,
        // The newest at or before the moment; where a group has none so old, its oldest.
        group.points.find((point) => point.id === groups.value[group.group]) ?? group.points.findLast((point) => ms(point) <= at.value) ?? group.points[0],
      ]),
    ),
  );
  /** Groups that have no point so old. */
  const later = computed(() =>
    (points.value?.groups ?? []).filter((group) => {
      const point = chosen.value[group.group];
      return point && ms(point) > at.value;
    }),
  );
  /** Unusual changes, and the newest point before them. */
  const hint = computed(() => {
    for (const group of points.value?.groups ?? []) {
      const point = group.points.find((candidate) => candidate.id === group.hint);
      if (point) return { group: group.name, point };
    }
    return null;
  });
  /** Age in seconds of the oldest point that is taken. */
  const worst = computed(() => {
    const apart = (points.value?.groups ?? []).flatMap((group) => group.points.filter((point) => Object.values(workloads.value).includes(point.id)));
    const ages = [...Object.values(chosen.value), ...apart].flatMap((point) => (point ? [(now.value - ms(point)) / 1000] : []));
    return ages.length ? Math.max(...ages) : null;
  });
  const ids = computed(() => Object.fromEntries(Object.entries(chosen.value).flatMap(([group, point]) => (point ? [[group, point.id]] : []))));
  function choose(time: number | null) {
    moment.value = time;
    groups.value = {};
    if (time === null) workloads.value = {};
  }
  return { points, error, moment, groups, workloads, at, chosen, later, hint, worst, ids, choose };
}
export type StartPoints = ReturnType<typeof useStartPoints>;
