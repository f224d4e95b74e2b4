import { computed, onScopeDispose, ref, shallowRef, watch, type Ref } from "vue";

/** A value as it is saved on the server, and the number of that state. */
export interface Saved<T> {
  value: T;
  version: number;
}

const HISTORY = 200;

export const copy = <T>(value: T): T => JSON.parse(JSON.stringify(value)) as T;

/**
 * A value being edited. Every change is a new value on a history, so undo and redo are steps back and forth;
 * the draft is kept in this browser under its name until it is saved, so that leaving loses nothing.
 */
export function useDraft<T>(base: Ref<Saved<T> | undefined>, nameOf: (value: T) => string) {
  // Shallow: no value is ever changed in place, and watching inside a plan of hundreds of members is slow.
  const history = shallowRef<T[]>([]);
  const at = ref(-1);
  const basedOn = ref(0);
  const saved = shallowRef<T | null>(null);

  // The number is that of the shape of drafts: one of an earlier release could not be shown.
  const key = (of: T) => `maestoso.draft.2.${nameOf(of)}`;
  const value = computed(() => history.value[at.value]);
  const changed = computed(
    () => value.value !== undefined && saved.value !== null && JSON.stringify(value.value) !== JSON.stringify(saved.value),
  );

  function recall(of: T): Saved<T> | null {
    try {
      return JSON.parse(localStorage.getItem(key(of)) ?? "null") as Saved<T> | null;
    } catch {
      return null; // not written by us, or cut short: the saved state is what there is
    }
  }

  // Two tabs of a browser share what is kept: only the first that shows a thing keeps the draft of it.
  const elsewhere = ref(false);
  const done = new AbortController();
  let release: () => void = () => undefined;
  function claim(name: string): void {
    if (!("locks" in navigator)) return;
    const hold = () => {
      if (done.signal.aborted) return undefined;
      elsewhere.value = false;
      return new Promise<void>((resolve) => (release = resolve));
    };
    void navigator.locks.request(name, { ifAvailable: true }, (lock) => {
      if (lock) return hold();
      elsewhere.value = true;
      // It is ours as soon as the other tab leaves it.
      void navigator.locks.request(name, { signal: done.signal }, hold).catch(() => undefined);
      return undefined;
    });
  }
  onScopeDispose(() => (done.abort(), release()));

  function begin(from: T, version: number, ground: T): void {
    history.value = [copy(from)];
    at.value = 0;
    basedOn.value = version;
    saved.value = copy(ground);
  }

  watch(
    base,
    (now) => {
      if (!now || (changed.value && basedOn.value !== now.version)) return;
      if (basedOn.value === now.version && value.value !== undefined) return;
      const draft = recall(now.value);
      if (value.value === undefined) claim(key(now.value));
      // A draft of an older state is brought back too: saving it will say what changed in between.
      begin(draft?.value ?? now.value, draft?.version ?? now.version, now.value);
    },
    { immediate: true },
  );

  watch([value, basedOn], () => {
    const now = value.value;
    if (now === undefined || elsewhere.value) return;
    try {
      if (changed.value) localStorage.setItem(key(now), JSON.stringify({ value: now, version: basedOn.value }));
      else localStorage.removeItem(key(now));
    } catch {
      // The browser has no more room: the draft lives as long as the page.
    }
  });

  function edit(change: (value: T) => void): void {
    if (value.value === undefined) return;
    const before = JSON.stringify(value.value);
    const next = JSON.parse(before) as T;
    change(next);
    if (JSON.stringify(next) === before) return;
    history.value = [...history.value.slice(Math.max(at.value + 1 - HISTORY, 0), at.value + 1), next];
    at.value = history.value.length - 1;
  }

  return {
    value,
    basedOn,
    changed,
    elsewhere,
    canUndo: computed(() => at.value > 0),
    canRedo: computed(() => at.value < history.value.length - 1),
    undo: () => (at.value = Math.max(at.value - 1, 0)),
    redo: () => (at.value = Math.min(at.value + 1, history.value.length - 1)),
    edit,
    /** Go on from what is saved on the server. */
    settle: (now: T, version: number) => begin(now, version, now),
    /** Go on with a draft that is based on another state. */
    rebase: (draft: T, version: number, ground: T) => begin(draft, version, ground),
  };
}
