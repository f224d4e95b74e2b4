import { onScopeDispose, shallowReactive } from "vue";

export interface KeyAction {
  /** As shown and matched: 'D', 'Ctrl+Z', 'ArrowRight'. */
  keys: string[];
  label: string;
  run: (event: KeyboardEvent) => void;
}

/** Keys of the page that is open, for the list behind '?'. */
export const pageKeys = shallowReactive<KeyAction[]>([]);

function nameOf(event: KeyboardEvent): string {
  const key = event.key.length === 1 ? event.key.toUpperCase() : event.key;
  const control = event.ctrlKey || event.metaKey ? "Ctrl+" : "";
  const letter = /^[A-Z]$/.test(key);
  const shift = event.shiftKey && (event.key.length > 1 || control || letter) ? "Shift+" : "";
  return `${control}${shift}${key}`;
}

function isTyping(event: KeyboardEvent): boolean {
  const at = event.target as HTMLElement | null;
  return !!at?.closest("input, textarea, select, [contenteditable], [role=combobox], [role=dialog]");
}

/** Keys that work on this page while nobody types into a field; they go with the page. */
export function useKeys(actions: KeyAction[]): void {
  const handle = (event: KeyboardEvent) => {
    if (isTyping(event)) return;
    const name = nameOf(event);
    const action = actions.find((candidate) => candidate.keys.includes(name));
    if (action) {
      event.preventDefault();
      action.run(event);
    }
  };
  window.addEventListener("keydown", handle);
  pageKeys.push(...actions);
  onScopeDispose(() => {
    window.removeEventListener("keydown", handle);
    for (const action of actions) pageKeys.splice(pageKeys.indexOf(action), 1);
  });
}
