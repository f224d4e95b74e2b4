import type { Cue, Member, Plan, Wave } from "@/api/types";

/** What a cue belongs to: the plan, a wave or a member. */
export type Owner = { kind: "plan" } | { kind: "wave"; wave: number } | { kind: "member"; workload: string };
export type CueKind = "hold" | "script" | "probe" | "pause" | "notify" | "names" | "doors";
export const CUE_KINDS: CueKind[] = ["hold", "script", "probe", "pause", "notify", "names", "doors"];
export const CUE_SIGNS: Record<CueKind, string> = { hold: "◠", script: "❯", probe: "✓", pause: "▨", notify: "⚑", names: "@", doors: "∩" };
export const CUE_WORDS: Record<CueKind, string> = {
  hold: "A person answers",
  script: "A script runs",
  probe: "A service must answer",
  pause: "Time passes",
  notify: "Everybody is told",
  names: "Names lead there",
  doors: "Front doors open",
};

export const MOST_WAVES = 20;

/** The wave and the member of a workload. */
export function find(plan: Plan, workload: string): [number, Member] | null {
  for (const [index, wave] of plan.waves.entries()) {
    const member = wave.members.find((candidate) => candidate.workload === workload);
    if (member) return [index, member];
  }
  return null;
}

/** A wave without members. */
export function newWave(name: string): Wave {
  return { name, opens: "ready", tag_rule: "", members: [], cues: [] };
}

/** Move workloads to a wave, in their order; a wave behind the last is made. */
export function moveTo(plan: Plan, workloads: string[], wave: number): void {
  while (plan.waves.length <= wave) plan.waves.push(newWave(`Wave ${plan.waves.length + 1}`));
  for (const name of workloads) {
    const found = find(plan, name);
    const target = plan.waves[wave];
    if (!found || found[0] === wave || !target) continue;
    const from = plan.waves[found[0]];
    if (from) from.members = from.members.filter((member) => member.workload !== name);
    target.members.push(found[1]);
  }
}

/** Bring workloads into a wave: those of the plan move, the others join. */
export function bringTo(plan: Plan, workloads: string[], wave: number): void {
  moveTo(plan, workloads, wave);
  plan.waves[wave]?.members.push(...workloads.filter((name) => !find(plan, name)).map(newMember));
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
    shutdown_limit_s: 300,
    force_off: true,
    cores: null,
    memory_mib: null,
    cues: [],
  };
}

/** Take workloads out of a plan, and what waits for them no longer does. */
export function takeOut(plan: Plan, workloads: string[]): void {
  for (const wave of plan.waves) {
    wave.members = wave.members.filter((member) => !workloads.includes(member.workload));
    for (const member of wave.members) member.depends_on = member.depends_on.filter((one) => !workloads.includes(one));
  }
}

/** Change one field of several members. */
export function setAll<K extends keyof Member>(plan: Plan, workloads: string[], field: K, value: Member[K]): void {
  for (const name of workloads) {
    const found = find(plan, name);
    if (found) found[1][field] = value;
  }
}

/** The cues of something; what is done to the list is done to the plan. */
export function cuesOf(plan: Plan, owner: Owner): Cue[] {
  if (owner.kind === "plan") return plan.cues;
  if (owner.kind === "wave") return plan.waves[owner.wave]?.cues ?? [];
  return find(plan, owner.workload)?.[1].cues ?? [];
}

export const kindOf = (cue: Cue): CueKind => CUE_KINDS.find((kind) => cue[kind]) ?? "hold";

/** A cue of a kind with an id that no other cue of the plan has. */
export function newCue(plan: Plan, kind: CueKind): Cue {
  const taken = new Set([...plan.cues, ...plan.waves.flatMap((wave) => [...wave.cues, ...wave.members.flatMap((one) => one.cues)])].map((cue) => cue.id));
  let number = 1;
  while (taken.has(`${kind}-${number}`)) number += 1;
  const bare: Cue = { id: `${kind}-${number}`, title: "", at: "before", kinds: ["test", "planned", "disaster"], on_failure: "ask", hold: null, script: null, probe: null, pause: null, notify: null, names: null, doors: null };
  return withKind(bare, kind);
}

/** The cue as another kind, with what is usual for it. */
export function withKind(cue: Cue, kind: CueKind): Cue {
  const parts = {
    hold: { instruction: "", who: [], limit_s: 0, then: "stop", not_right: "", answers: 1 },
    script: { script: "", sha256: "", where: "site", workload: "", parameters: {}, secrets: {}, limit_s: 300, ok_codes: [0] },
    probe: { protocol: "http", workload: "", address: "", door: "", port: 443, path: "/", status: 200, text: "", days: 14, name: "", limit_s: 300 },
    pause: { seconds: 60 },
    notify: { text: "" },
    names: { records: [{ name: "", type: "A", workload: "", door: "", at: {}, ttl_s: 60 }], limit_s: 120, wait_out: true },
    doors: { doors: [] },
  } as const;
  const none = { hold: null, script: null, probe: null, pause: null, notify: null, names: null, doors: null };
  return { ...cue, ...none, [kind]: cue[kind] ?? JSON.parse(JSON.stringify(parts[kind])) } as Cue;
}
