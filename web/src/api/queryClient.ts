import { notifyManager, QueryClient } from "@tanstack/vue-query";
import { ApiError } from "@/api/client";
import { unlessPressed } from "@/api/pressed";

// A lost connection is said by the shell, and asked again; what the server refused it refuses again. Nothing pauses by
// what the browser believes of its network: the server may be on this machine.
// The stream says what changed; what it missed is found by then.
const SAFETY_MS = 60_000;

notifyManager.setScheduler((tell) => setTimeout(() => unlessPressed(tell)));

export const queryClient = new QueryClient({
  defaultOptions: {
    mutations: { networkMode: "always" },
    queries: { networkMode: "always", retry: (tries, problem) => !(problem instanceof ApiError) && tries < 1, refetchOnWindowFocus: true, staleTime: 1000, refetchInterval: SAFETY_MS },
  },
});
