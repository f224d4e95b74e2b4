// A page where somebody presses; what was done when, in the order in which it was.
Object.assign(globalThis, { window: new EventTarget() });
const { waitsForPointer } = await import("@/api/pressed");

const pause = (ms: number) => new Promise((done) => setTimeout(done, ms));

export async function goes(happens: string[], longestMs: number) {
  const page = new EventTarget();
  const done: string[] = [];
  const unlessPressed = waitsForPointer(page, longestMs);
  page.addEventListener("click", () => void done.push("click"));
  for (const one of happens) {
    if (one.startsWith("wait ")) await pause(Number(one.slice(5)));
    else if (one === "other button down") page.dispatchEvent(Object.assign(new Event("pointerdown"), { button: 2 }));
    else if (/^pointer|^click/.test(one)) page.dispatchEvent(new Event(one));
    else unlessPressed(() => void done.push(one));
  }
  const soFar = [...done];
  // So that no clock of a pointer that is still down goes on.
  page.dispatchEvent(new Event("pointerup"));
  return soFar;
}
