import { useQuery } from "@tanstack/vue-query";
import { computed, onScopeDispose, type Ref, ref, watch } from "vue";
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

/** Everybody, with the roles that there are. */
export function usePeople() {
  return useQuery({ queryKey: ["people"], queryFn: () => take(api.GET("/api/v1/people")) });
}

/** How this standby follows; only there. */
export function useTakeover(enabled: Ref<boolean> = ref(true)) {
  return useQuery({ queryKey: ["takeover"], queryFn: () => take(api.GET("/api/v1/takeover")), refetchInterval: 5000, enabled });
}

/** Requests for second signatures, what is open first. */
export function useApprovals(enabled: Ref<boolean> = ref(true)) {
  return useQuery({ queryKey: ["approvals"], queryFn: () => take(api.GET("/api/v1/approvals")), enabled });
}

/** The site line; the stream keeps it up to date. */
export function useSiteLine(enabled: Ref<boolean> = ref(true)) {
  return useQuery({ queryKey: ["site-line"], queryFn: () => take(api.GET("/api/v1/site-line")), staleTime: Infinity, enabled });
}

/** All plans with how they stand, for lists and menus. */
export function usePlans(enabled: Ref<boolean> = ref(true)) {
  return useQuery({ queryKey: ["plans"], queryFn: () => take(api.GET("/api/v1/plans")), enabled });
}

/**
 * Whether the server answers at all, said within five seconds of the moment from which it is `silent`. By a request
 * that waits for nobody: most wait for sites, and when those stand still it is they that are lost.
 */
export function usePing(enabled: Ref<boolean>, silent: Ref<boolean>) {
  const ping = useQuery({
    queryKey: ["ping"],
    queryFn: () => take(api.GET("/api/v1/session", { signal: AbortSignal.timeout(2000) })),
    // Now and then all the same: the server counts how long nobody has been there.
    refetchInterval: computed(() => (silent.value ? 2000 : 30_000)),
    retry: false,
    enabled,
  });
  const ask = () => void ping.refetch({ cancelRefetch: false });
  watch(silent, (now) => now && ask());
  window.addEventListener("offline", ask);
  onScopeDispose(() => window.removeEventListener("offline", ask));
  return ping;
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

/** What the records know by these words. */
export function useSearch(words: Ref<string>, enabled: Ref<boolean>) {
  return useQuery({
    queryKey: ["search", words],
    queryFn: () => take(api.GET("/api/v1/search", { params: { query: { find: words.value } } })),
    placeholderData: (before) => before,
    enabled,
  });
}

/** Sites with their pools and networks, and links. */
export function useSites() {
  return useQuery({ queryKey: ["sites"], queryFn: () => take(api.GET("/api/v1/sites")) });
}

/** What waits for sites outside of runs, and the latest that does not any more. */
export function useSiteRequests() {
  return useQuery({ queryKey: ["site-requests"], queryFn: () => take(api.GET("/api/v1/site-requests")) });
}

/** All groups, links and gaps. */
export function useProtection(find: Ref<string> = ref("")) {
  return useQuery({
    queryKey: ["groups", find],
    queryFn: () => take(api.GET("/api/v1/groups", { params: { query: { find: find.value } } })),
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
