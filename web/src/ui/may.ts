import { shallowRef, type Directive } from "vue";

/** Why whoever is signed in may not, and who may, by permission; what is not in it is permitted. */
const lacking = shallowRef<Record<string, string>>({});

/** Said by the session, before any page is shown. */
export function setLacking(now: Record<string, string>): void {
  lacking.value = now;
}

/** Why a permission is lacking; empty where it is there. */
export const mayNot = (permission: string): string => lacking.value[permission] ?? "";

const needs = new WeakMap<Element, string>();

function stop(event: Event): void {
  const why = mayNot(needs.get(event.currentTarget as Element) ?? "");
  if (!why) return;
  event.preventDefault();
  event.stopImmediatePropagation();
  // Where nothing hovers, as on a phone, the title is never seen.
  void import("@/ui/notice").then(({ notice }) => notice("You may not do this", why));
}

function apply(el: HTMLElement, { value }: { value: string }): void {
  if (!needs.has(el)) el.addEventListener("click", stop, { capture: true });
  needs.set(el, value);
  const why = mayNot(value);
  el.classList.toggle("not-permitted", !!why);
  if (!why) return;
  el.title = why;
  el.setAttribute("aria-disabled", "true");
}

/** `v-may="'change-plans'"`: shown to everybody; who lacks the permission reads why, and who has it, instead of pressing it. */
export const vMay: Directive<HTMLElement, string> = { mounted: apply, updated: apply };
