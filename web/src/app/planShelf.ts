import { useLocalStorage } from "@vueuse/core";

/** Plans in the side bar: as many as can be told apart at a glance. */
export const MOST_IN_BAR = 8;
const MOST_RECENT = 20;

export const pinned = useLocalStorage<string[]>("maestoso.plans.pinned", []);
const recent = useLocalStorage<string[]>("maestoso.plans.recent", []);

/** Pin a plan to the side bar, or take it from there. */
export function pin(code: string): void {
  pinned.value = pinned.value.includes(code) ? pinned.value.filter((one) => one !== code) : [...pinned.value, code];
}

/** Note that a plan was opened. */
export function opened(code: string): void {
  if (recent.value[0] !== code) recent.value = [code, ...recent.value.filter((one) => one !== code)].slice(0, MOST_RECENT);
}

/** The plans that stand in the bar, in the order of all: the open one, pinned ones, then what was opened last. */
export function shortList<T extends { code: string }>(plans: readonly T[], open: string, most = MOST_IN_BAR): T[] {
  const wanted = [open, ...pinned.value, ...recent.value, ...plans.map((plan) => plan.code)];
  const there = new Set(plans.map((plan) => plan.code));
  const chosen = new Set([...new Set(wanted)].filter((code) => there.has(code)).slice(0, most));
  return plans.filter((plan) => chosen.has(plan.code));
}
