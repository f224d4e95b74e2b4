import { computed, ref, watch, type Ref } from "vue";
import type { Member, Plan, PlanDetail } from "@/api/types";

interface Kept {
  plan: Plan;
  basedOn: number;
}

const HISTORY = 200;

const copy = <T>(value: T): T => JSON.parse(JSON.stringify(value)) as T;

/**
 * A plan being edited. Every change is a new value on a history, so undo and redo are steps back and forth;
 * the draft is kept in this browser until it is saved, so that leaving loses nothing.
 */
export function useDraft(detail: Ref<PlanDetail | undefined>) {
  const history = ref<Plan[]>([]);
  const at = ref(-1);
  const basedOn = ref(0);
  const saved = ref<Plan | null>(null);

  const key = (code: string) => `maestoso.draft.${code}`;
  const plan = computed(() => history.value[at.value]);
  const changed = computed(
    () => !!plan.value && !!saved.value && JSON.stringify(plan.value) !== JSON.stringify(saved.value),
  );

  function recall(code: string): Kept | null {
    try {
      return JSON.parse(localStorage.getItem(key(code)) ?? "null") as Kept | null;
    } catch {
      return null; // not written by us, or cut short: the saved version is what there is
    }
  }

  function begin(from: Plan, base: number, ground: Plan): void {
    history.value = [copy(from)];
    at.value = 0;
    basedOn.value = base;
    saved.value = copy(ground);
  }

  watch(
    detail,
    (now) => {
      if (!now || (changed.value && basedOn.value !== now.version)) return;
      if (basedOn.value === now.version && plan.value) return;
      const draft = recall(now.plan.code);
      // A draft of an older version is brought back too: saving it will say what changed in between.
      begin(draft?.plan ?? now.plan, draft?.basedOn ?? now.version, now.plan);
    },
    { immediate: true },
  );

  watch([plan, basedOn], () => {
    if (!plan.value) return;
    if (changed.value) {
      localStorage.setItem(key(plan.value.code), JSON.stringify({ plan: plan.value, basedOn: basedOn.value }));
    } else localStorage.removeItem(key(plan.value.code));
  });

  function edit(change: (plan: Plan) => void): void {
    if (!plan.value) return;
    const next = copy(plan.value);
    change(next);
    if (JSON.stringify(next) === JSON.stringify(plan.value)) return;
    history.value = [...history.value.slice(Math.max(at.value + 1 - HISTORY, 0), at.value + 1), next];
    at.value = history.value.length - 1;
  }

  return {
    plan,
    basedOn,
    changed,
    canUndo: computed(() => at.value > 0),
    canRedo: computed(() => at.value < history.value.length - 1),
    undo: () => (at.value = Math.max(at.value - 1, 0)),
    redo: () => (at.value = Math.min(at.value + 1, history.value.length - 1)),
    edit,
    /** Go on from what is saved on the server. */
    settle: (now: Plan, version: number) => begin(now, version, now),
    /** Go on with a draft that is based on another version. */
    rebase: (draft: Plan, version: number, ground: Plan) => begin(draft, version, ground),
  };
}

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
