import type { TrapSave } from "@/api/types";

/** Something that a known trap can be about. */
export type Thing = Pick<TrapSave, "about" | "name">;

export const NAMES: Record<Thing["about"], string> = { plan: "the plan", group: "the group", workload: "the workload" };

/** What the traps of a run or a start may be about: its plan, its groups, its workloads. */
export function things(plan: string, groups: string[], workloads: string[]): Thing[] {
  return [
    { about: "plan", name: plan },
    ...groups.map((name) => ({ about: "group", name }) as const),
    ...workloads.map((name) => ({ about: "workload", name }) as const),
  ];
}
