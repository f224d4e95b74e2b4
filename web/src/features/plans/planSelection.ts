import { computed, nextTick, ref, type Ref } from "vue";
import type { Member, Plan } from "@/api/types";
import { bringTo, find, moveTo, MOST_WAVES, setAll, takeOut } from "@/features/plans/draft";

/** Which workloads, or which wave, of a plan are selected, and what is done to them by mouse and keys. */
export function usePlanSelection(plan: Ref<Plan | null | undefined>, draft: { edit: (change: (plan: Plan) => void) => void }, begin: string[]) {
  const selected = ref<string[]>(begin);
  const wave = ref<number | null>(null);
  const order = computed(() => plan.value?.waves.flatMap((one) => one.members.map((member) => member.workload)) ?? []);
  /** What selected workloads wait for, and who waits for them: pairs of what comes first and who waits. */
  const dependencies = computed<[string, string][]>(() => {
    const found: [string, string][] = [];
    for (const name of selected.value) {
      for (const one of plan.value?.waves ?? []) {
        for (const member of one.members) {
          if (member.workload === name) found.push(...member.depends_on.map((d): [string, string] => [d, name]));
          else if (member.depends_on.includes(name)) found.push([name, member.workload]);
        }
      }
    }
    return found;
  });

  function pick(workload: string, event: MouseEvent | KeyboardEvent) {
    wave.value = null;
    if (event.shiftKey && selected.value.length) {
      const [a, b] = [order.value.indexOf(selected.value.at(-1) ?? ""), order.value.indexOf(workload)].sort((m, n) => m - n);
      const range = order.value.slice(a, (b ?? 0) + 1);
      selected.value = [...new Set([...selected.value, ...range])];
    } else if (event.ctrlKey || event.metaKey) {
      selected.value = selected.value.includes(workload) ? selected.value.filter((name) => name !== workload) : [...selected.value, workload];
    } else selected.value = selected.value.length === 1 && selected.value[0] === workload ? [] : [workload];
  }
  function lasso(names: string[], more: boolean) {
    wave.value = null;
    selected.value = more ? [...new Set([...selected.value, ...names])] : names;
  }
  function pickWave(index: number) {
    selected.value = [];
    wave.value = index < 0 || wave.value === index ? null : index;
  }
  function move(names: string[], to: number) {
    if (to >= 0 && to < MOST_WAVES) draft.edit((next) => moveTo(next, names, to));
  }
  function bring(names: string[], to: number) {
    if (to < MOST_WAVES) draft.edit((next) => bringTo(next, names, to));
  }
  function shift(by: number) {
    const waves = selected.value.map((name) => (plan.value ? (find(plan.value, name)?.[0] ?? 0) : 0));
    const to = by < 0 ? Math.min(...waves) - 1 : Math.max(...waves) + 1;
    if (selected.value.length && to >= 0) move(selected.value, to);
  }
  function walk(by: number, more = false) {
    const at = order.value.indexOf(selected.value.at(-1) ?? "");
    const next = order.value[Math.min(Math.max(at + by, 0), order.value.length - 1)];
    if (!next) return;
    selected.value = more ? [...selected.value.filter((name) => name !== next), next] : [next];
    wave.value = null;
    void nextTick(() => document.querySelector(`[data-workload="${CSS.escape(next)}"]`)?.scrollIntoView({ block: "nearest" }));
  }
  function set(field: keyof Member, value: Member[keyof Member]) {
    draft.edit((next) => setAll(next, selected.value, field, value));
  }
  function depend(workload: string, on: string) {
    draft.edit((next) => {
      const found = find(next, workload);
      if (found && !found[1].depends_on.includes(on)) found[1].depends_on.push(on);
    });
    selected.value = [workload];
  }
  function remove() {
    draft.edit((next) => takeOut(next, selected.value));
    selected.value = [];
  }
  function add(names: string[], to: number) {
    bring(names, to);
    selected.value = names;
  }
  function none() {
    selected.value = [];
    wave.value = null;
  }
  return { selected, wave, order, dependencies, pick, lasso, pickWave, move, bring, shift, walk, set, depend, remove, add, none };
}
