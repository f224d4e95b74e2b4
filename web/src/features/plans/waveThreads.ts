import { nextTick, onMounted, onScopeDispose, ref, watch, type Ref } from "vue";

/** Dependencies drawn from card to card of a board, as paths: from what comes first to who waits for it. */
export function useThreads(board: Readonly<Ref<HTMLElement | null>>, dependencies: () => [string, string][], redraws: () => unknown) {
  const threads = ref<string[]>([]);
  const extent = ref({ width: 0, height: 0 });
  async function draw() {
    await nextTick();
    const ground = board.value;
    if (!ground) return;
    const origin = ground.getBoundingClientRect();
    const card = (name: string) => ground.querySelector(`[data-workload="${CSS.escape(name)}"]`)?.getBoundingClientRect();
    extent.value = { width: ground.scrollWidth, height: ground.scrollHeight };
    threads.value = dependencies().flatMap(([from, to]) => {
      const [a, b] = [card(from), card(to)];
      if (!a || !b) return [];
      const [dx, dy] = [ground.scrollLeft - origin.left, ground.scrollTop - origin.top];
      const [x1, y1, y2] = [a.right + dx, a.top + a.height / 2 + dy, b.top + b.height / 2 + dy];
      // In one wave the thread bends around the right edge, between waves it crosses the gap.
      const same = Math.abs(a.left - b.left) < 4;
      const x2 = (same ? b.right : b.left) + dx;
      return [`M${x1} ${y1} C${x1 + 12} ${y1} ${x2 + (same ? 12 : -12)} ${y2} ${x2} ${y2}`];
    });
  }
  watch(() => [dependencies(), redraws()], draw, { immediate: true, deep: false });
  const sizes = new ResizeObserver(() => void draw());
  onMounted(() => board.value && sizes.observe(board.value));
  onScopeDispose(() => sizes.disconnect());
  return { threads, extent };
}
