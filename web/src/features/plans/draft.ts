import type { Member, Plan } from "@/api/types";

/** The wave and the member of a workload. */
export function find(plan: Plan, workload: string): [number, Member] | null {
  for (const [index, wave] of plan.waves.entries()) {
    const member = wave.members.find((candidate) => candidate.workload === workload);
    if (member) return [index, member];
  }
  return null;
}

/** Move workloads to a wave, in their order; a wave behind the last is made. */
export function moveTo(plan: Plan, workloads: string[], wave: number): void {
  while (plan.waves.length <= wave) plan.waves.push({ name: `Wave ${plan.waves.length + 1}`, opens: "ready", members: [], holds: [] });
  for (const name of workloads) {
    const found = find(plan, name);
    const target = plan.waves[wave];
    if (!found || found[0] === wave || !target) continue;
    const from = plan.waves[found[0]];
    if (from) from.members = from.members.filter((member) => member.workload !== name);
    target.members.push(found[1]);
  }
}

/** A workload as it joins a plan. */
export function newMember(workload: string): Member {
  return {
    workload,
    delay_s: 0,
    depends_on: [],
    ready: "checks",
    ready_timeout_s: 600,
    on_failure: "ask",
    power_on: true,
  };
}

/** Change one field of several members. */
export function setAll<K extends keyof Member>(plan: Plan, workloads: string[], field: K, value: Member[K]): void {
  for (const name of workloads) {
    const found = find(plan, name);
    if (found) found[1][field] = value;
  }
}
