// Plays steps on a draft and tells what is seen after each: a draft is made of refs, which do not travel.
import { effectScope, nextTick, ref } from "vue";
import { useDraft, type Saved } from "@/ui/draft";

interface Thing {
  name: string;
  words: string[];
}
type Step =
  | { do: "add" | "drop"; word: string }
  | { do: "undo" | "redo" }
  | { do: "saved"; value: Thing; version: number }
  | { do: "settle" | "rebase"; value: Thing; version: number; ground?: Thing };

export async function play(base: Saved<Thing>, steps: Step[]) {
  const scope = effectScope();
  const saved = ref<Saved<Thing> | undefined>(base);
  const draft = scope.run(() => useDraft(saved, (one) => one.name))!;
  const seen = [];
  const look = async () => {
    await nextTick();
    seen.push({
      words: draft.value.value?.words,
      version: draft.basedOn.value,
      changed: draft.changed.value,
      canUndo: draft.canUndo.value,
      canRedo: draft.canRedo.value,
      kept: localStorage.getItem(`maestoso.draft.2.${base.value.name}`) !== null,
    });
  };
  await look();
  for (const step of steps) {
    if (step.do === "add") draft.edit((one) => void one.words.push(step.word));
    else if (step.do === "drop") draft.edit((one) => void (one.words = one.words.filter((word) => word !== step.word)));
    else if (step.do === "undo") draft.undo();
    else if (step.do === "redo") draft.redo();
    else if (step.do === "saved") saved.value = { value: step.value, version: step.version };
    else if (step.do === "settle") draft.settle(step.value, step.version);
    else draft.rebase(step.value, step.version, step.ground ?? step.value);
    await look();
  }
  scope.stop();
  return seen;
}

/** As when the browser is closed: nothing is kept any more. */
export function forget(name: string): void {
  localStorage.removeItem(`maestoso.draft.2.${name}`);
}

export function keepNonsense(name: string): void {
  localStorage.setItem(`maestoso.draft.2.${name}`, "{cut sh");
}
