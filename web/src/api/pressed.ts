const LONGEST_MS = 10_000;

/**
 * What is given to the function that comes back is done at once, but while a pointer is down on the page it waits until
 * that is up and has counted: a button that moves away under a finger, or is switched off there, loses the press. Never
 * for longer than ten seconds, whatever became of the pointer.
 */
export function waitsForPointer(page: EventTarget, longest = LONGEST_MS): (work: () => void) => void {
  let down = false;
  let ending: ReturnType<typeof setTimeout> | undefined;
  const waiting: (() => void)[] = [];
  function end() {
    down = false;
    for (const work of waiting.splice(0)) work();
  }
  function endIn(ms: number) {
    clearTimeout(ending);
    ending = setTimeout(end, ms);
  }
  function press(event: Event) {
    // Behind a menu of the browser, the other buttons of a mouse may come up unheard.
    if ((event as PointerEvent).button > 0) return;
    down = true;
    endIn(longest);
  }
  page.addEventListener("pointerdown", press, { capture: true });
  // A click comes behind its pointerup, in the same breath.
  for (const kind of ["pointerup", "pointercancel"]) page.addEventListener(kind, () => down && endIn(0), { capture: true });
  return (work) => (down ? void waiting.push(work) : work());
}

/** On this page. */
export const unlessPressed = waitsForPointer(window);
