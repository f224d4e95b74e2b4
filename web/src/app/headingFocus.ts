import { useMutationObserver } from "@vueuse/core";
import { ref, watch, type Ref } from "vue";
import { useRoute, useRouter } from "vue-router";

/**
 * When another page opens its heading gets the focus as soon as it is there, so that it is read out and Tab goes on
 * from it; unless the person has gone somewhere on the page meanwhile.
 */
export function useHeadingFocus(page: Ref<HTMLElement | null>): void {
  const route = useRoute();
  const router = useRouter();
  const due = ref(false);
  function give() {
    const heading = page.value?.querySelector("h1");
    if (!due.value || !heading) return;
    due.value = false;
    const at = document.activeElement;
    if (at && at !== document.body && (page.value?.contains(at) || at.closest("[role=dialog]"))) return;
    heading.tabIndex = -1;
    heading.focus({ preventScroll: true });
  }
  // The first page is read out by itself.
  void router.isReady().then(() => watch(() => route.path, () => (due.value = true)));
  useMutationObserver(page, give, { childList: true, subtree: true });
}
