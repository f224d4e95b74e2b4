import { computed } from "vue";
import { useSites } from "@/api/queries";
import type { Cue, Plan } from "@/api/types";

const cuesOfAll = (plan: Plan): Cue[] => [...plan.cues, ...plan.waves.flatMap((wave) => [...wave.cues, ...wave.members.flatMap((one) => one.cues)])];

/** Front doors that the cues of a plan open, by their names. */
export const openedBy = (plan: Plan): string[] => [...new Set(cuesOfAll(plan).flatMap((cue) => cue.doors?.doors ?? []))];

/** The front doors of the site that a plan leaves, as far as one may see it. */
export function useDoors(plan: () => Plan) {
  const { data: sites } = useSites();
  return computed(() => sites.value?.sites.find((site) => site.code === plan().source)?.front_doors ?? []);
}
