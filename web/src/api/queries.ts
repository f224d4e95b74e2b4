import { useQuery } from "@tanstack/vue-query";
import type { Ref } from "vue";
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

/** Every workload, for choosing. */
export function useWorkloads() {
  return useQuery({
    queryKey: ["workloads"],
    queryFn: () => take(api.GET("/api/v1/workloads")),
    staleTime: 60_000,
  });
}

/** The newest version of a plan. */
export function usePlan(code: Ref<string>) {
  return useQuery({
    queryKey: ["plan", code],
    queryFn: () => take(api.GET("/api/v1/plans/{code}", { params: { path: { code: code.value } } })),
    refetchOnWindowFocus: false,
  });
}
