import { onScopeDispose, ref, shallowRef, watch, type Ref } from "vue";
import { api, take } from "@/api/client";
import type { Crosswalk, LandingsView } from "@/api/types";

/** Where everything would land by a draft: judged again a moment after the last change; the newest answer wins. */
export function useJudgedLandings(crosswalk: Ref<Crosswalk | null | undefined>, filter: Ref<string>, onlyFindings: Ref<boolean>, limit: number) {
  const landings = shallowRef<LandingsView | null>(null);
  const error = ref<unknown>(null);
  let asked = 0;
  let timer = 0;
  async function judge() {
    if (!crosswalk.value) return;
    const mine = ++asked;
    try {
      const body = { crosswalk: crosswalk.value, filter: filter.value, only_findings: onlyFindings.value, limit };
      const answer = await take(api.POST("/api/v1/crosswalks/landings", { body }));
      if (mine !== asked) return;
      landings.value = answer;
      error.value = null;
    } catch (caught) {
      if (mine === asked) error.value = caught;
    }
  }
  watch(
    [crosswalk, filter, onlyFindings],
    () => {
      window.clearTimeout(timer);
      timer = window.setTimeout(judge, landings.value ? 150 : 0);
    },
    { immediate: true },
  );
  onScopeDispose(() => window.clearTimeout(timer));
  return { landings, error };
}
