import { ref, type Ref } from "vue";

const LEAST_DRAWN = 5;

/** A rectangle drawn from empty ground that chooses the cards it touches; in the board's own coordinates, so that it stays where it is when the board is scrolled. */
export function useLasso(board: Readonly<Ref<HTMLElement | null>>, done: (workloads: string[], more: boolean) => void) {
  const lasso = ref<{ x1: number; y1: number; x2: number; y2: number } | null>(null);
  function onBoard(event: PointerEvent): [number, number] {
    const ground = board.value;
    if (!ground) return [0, 0];
    const origin = ground.getBoundingClientRect();
    return [event.clientX - origin.left + ground.scrollLeft, event.clientY - origin.top + ground.scrollTop];
  }
  function begin(event: PointerEvent) {
    const ground = board.value;
    if (!ground || event.button !== 0 || (event.target as Element).closest("button, input, a")) return;
    const [x, y] = onBoard(event);
    const onScrollBar = x - ground.scrollLeft > ground.clientWidth || y - ground.scrollTop > ground.clientHeight;
    if (onScrollBar) return;
    lasso.value = { x1: x, y1: y, x2: x, y2: y };
    ground.setPointerCapture(event.pointerId);
  }
  function move(event: PointerEvent) {
    if (lasso.value) [lasso.value.x2, lasso.value.y2] = onBoard(event);
  }
  function end(event: PointerEvent) {
    const [one, ground] = [lasso.value, board.value];
    lasso.value = null;
    if (!one || !ground || Math.max(Math.abs(one.x2 - one.x1), Math.abs(one.y2 - one.y1)) < LEAST_DRAWN) return;
    const origin = ground.getBoundingClientRect();
    const [dx, dy] = [ground.scrollLeft - origin.left, ground.scrollTop - origin.top];
    const touched = [...ground.querySelectorAll<HTMLElement>("[data-workload]")].filter((card) => {
      const at = card.getBoundingClientRect();
      const across = at.left + dx < Math.max(one.x1, one.x2) && at.right + dx > Math.min(one.x1, one.x2);
      return across && at.top + dy < Math.max(one.y1, one.y2) && at.bottom + dy > Math.min(one.y1, one.y2);
    });
    done(touched.map((card) => card.dataset.workload ?? ""), event.shiftKey || event.ctrlKey || event.metaKey);
  }
  return { lasso, begin, move, end };
}
