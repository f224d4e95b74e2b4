import { useQuery } from "@tanstack/vue-query";
import { type Ref, ref } from "vue";
import { api, keepCsrf, take } from "@/api/client";

/** Who is signed in. */
export function useSession() {
  return useQuery({
    queryKey: ["session"],
    queryFn: async () => {
      const session = await take(api.GET("/api/v1/session"));
      keepCsrf(session.csrf);
      return session;
    },
    staleTime: Infinity,
  });
}

/** The site line; asked again every few seconds, because it is on every page. */
export function useSiteLine(enabled: Ref<boolean>) {
  return useQuery({
    queryKey: ["site-line"],
    queryFn: () => take(api.GET("/api/v1/site-line")),
    refetchInterval: 2500,
    enabled,
  });
}

/**
 * Whether the server answers at all, said within five seconds. By a request that waits for nobody: the site line waits
 * for sites that stand still, and then it is they that are lost.
 */
export function usePing(enabled: Ref<boolean>) {
  useQuery({
    queryKey: ["ping"],
    queryFn: () => take(api.GET("/api/v1/session", { signal: AbortSignal.timeout(2500) })),
    refetchInterval: 2500,
    retry: false,
    enabled,
  });
}

/** The first workloads that a filter finds, for choosing. */
export function useWorkloads(filter: Ref<string>, limit: number, enabled: Ref<boolean> = ref(true)) {
  return useQuery({
    queryKey: ["workloads", filter, limit],
    queryFn: async () => (await take(api.GET("/api/v1/workloads", { params: { query: { filter: filter.value, limit } } }))).rows,
    staleTime: 60_000,
    placeholderData: (before) => before,
    enabled,
  });
}

/** Sites with their pools and networks, and links. */
export function useSites() {
  return useQuery({ queryKey: ["sites"], queryFn: () => take(api.GET("/api/v1/sites")), refetchInterval: 5000 });
}

/** What waits for sites outside of runs, and the latest that does not any more. */
export function useSiteRequests() {
  return useQuery({ queryKey: ["site-requests"], queryFn: () => take(api.GET("/api/v1/site-requests")), refetchInterval: 5000 });
}

/** All groups, links and gaps. */
export function useProtection(find: Ref<string> = ref("")) {
  return useQuery({
    queryKey: ["groups", find],
    queryFn: () => take(api.GET("/api/v1/groups", { params: { query: { find: find.value } } })),
    refetchInterval: 3000,
    placeholderData: (before) => before,
  });
}

/** The script library. */
export function useLibrary(enabled: Ref<boolean> = ref(true)) {
  return useQuery({ queryKey: ["library"], queryFn: () => take(api.GET("/api/v1/library")), enabled });
}

/** The newest version of a plan. */
export function usePlan(code: Ref<string>) {
  return useQuery({
    queryKey: ["plan", code],
    queryFn: () => take(api.GET("/api/v1/plans/{code}", { params: { path: { code: code.value } } })),
    refetchOnWindowFocus: false,
  });
}

/** Known traps of what a run is about. */
export function useRunTraps(id: Ref<number>) {
  return useQuery({
    queryKey: ["traps", "run", id],
    queryFn: () => take(api.GET("/api/v1/runs/{id}/traps", { params: { path: { id: id.value } } })),
  });
}
