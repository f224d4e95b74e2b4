import { watch, type Ref } from "vue";
import { useIntervalFn } from "@vueuse/core";
import { api, idleMs } from "@/api/client";
import type { RunStatus } from "@/api/types";
import { mayNot } from "@/ui/may";

const THERE_MS = 60_000;
const LOOK_MS = 5000;

/** Says that somebody who may answer looks at what a run needs, so that nobody else is told in their place. */
export function useSeen(id: Ref<number>, status: Ref<RunStatus | null>): void {
  let said = "";
  const look = () => {
    const needs = status.value?.needs.map((need) => `${need.kind} ${need.step}`).join("\n") ?? "";
    const key = `${id.value}\n${needs}`;
    if (!needs || key === said || mayNot("answer") || document.hidden || idleMs() > THERE_MS) return;
    said = key;
    // Whoever could not be told that is told to look, at worst.
    void api.POST("/api/v1/runs/{id}/seen", { params: { path: { id: id.value } } }).catch(() => (said = ""));
  };
  watch([id, () => status.value?.needs.length], look, { immediate: true });
  useIntervalFn(look, LOOK_MS);
}
