import { computed, onScopeDispose, ref, watch, type Ref } from "vue";
import { copy } from "@/ui/draft";

const PREFIX = "maestoso.form.1.";

/**
 * What is typed into a form is kept in this tab until it is saved or discarded, so that leaving the page loses nothing;
 * closing the tab asks first. `name` tells the form from every other, `ready` is whether it shows what is saved, which
 * is what `value` holds when it becomes so.
 */
export function useFormDraft<T>(name: () => string, value: Ref<T>, ready: Ref<boolean>) {
  /** Whether what is shown was typed earlier, and not what is saved. */
  const recovered = ref(false);
  const ground = ref("");
  // What is saved is filled in before it is known to be that: until then nothing is kept.
  let begun = false;
  const changed = computed(() => ready.value && JSON.stringify(value.value) !== ground.value);

  function forget(): void {
    sessionStorage.removeItem(PREFIX + name());
    ground.value = JSON.stringify(value.value);
    recovered.value = false;
  }
  function discard(): void {
    value.value = JSON.parse(ground.value) as T;
    forget();
  }
  watch(
    ready,
    (now) => {
      begun = now;
      if (!now) return;
      ground.value = JSON.stringify(value.value);
      recovered.value = false;
      try {
        const kept = sessionStorage.getItem(PREFIX + name());
        if (kept === null || kept === ground.value) return;
        // Fields that this release has and the kept form had not are those that are saved.
        value.value = { ...copy(value.value), ...(JSON.parse(kept) as T) };
        recovered.value = true;
      } catch {
        // Cut short, or no storage: what is saved is what there is.
      }
    },
    { immediate: true },
  );
  watch(
    value,
    () => {
      if (!begun || !ready.value) return;
      try {
        if (changed.value) sessionStorage.setItem(PREFIX + name(), JSON.stringify(value.value));
        else sessionStorage.removeItem(PREFIX + name());
      } catch {
        // No more room: it lives as long as the page.
      }
    },
    { deep: true },
  );
  const ask = (event: BeforeUnloadEvent) => changed.value && event.preventDefault();
  window.addEventListener("beforeunload", ask);
  onScopeDispose(() => window.removeEventListener("beforeunload", ask));
  return { changed, recovered, forget, discard };
}
