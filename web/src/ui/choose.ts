import { computed, ref, watch, type Ref } from "vue";

/** Things that are fetched when a dialog opens, for a person to choose some of. */
export function useChoice<T>(open: Ref<boolean>, fetch: () => Promise<T[]>, preset: (one: T) => boolean) {
  const items = ref(null) as Ref<T[] | null>;
  const chosen = ref<Set<number>>(new Set());
  const problem = ref<unknown>(null);

  watch(
    open,
    async (now) => {
      if (!now) return;
      items.value = null;
      problem.value = null;
      try {
        const found = await fetch();
        items.value = found;
        chosen.value = new Set(found.flatMap((one, index) => (preset(one) ? [index] : [])));
      } catch (caught) {
        problem.value = caught;
      }
    },
    { immediate: true },
  );

  function toggle(index: number): void {
    const next = new Set(chosen.value);
    if (!next.delete(index)) next.add(index);
    chosen.value = next;
  }
  const all = computed(() => !!items.value?.length && chosen.value.size === items.value.length);

  return {
    items,
    chosen,
    problem,
    toggle,
    all,
    toggleAll: () => (chosen.value = new Set(all.value ? [] : items.value?.keys())),
    picked: () => (items.value ?? []).filter((_, index) => chosen.value.has(index)),
  };
}
