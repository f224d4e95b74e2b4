<script setup lang="ts">
// The text of a plan file: completed from the schema, with what does not fit marked at its place.
import { autocompletion, closeBrackets, completionKeymap } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap, indentWithTab } from "@codemirror/commands";
import { yaml } from "@codemirror/lang-yaml";
import { defaultHighlightStyle, indentOnInput, syntaxHighlighting } from "@codemirror/language";
import { lintGutter, setDiagnostics } from "@codemirror/lint";
import { EditorState } from "@codemirror/state";
import { EditorView, keymap, lineNumbers } from "@codemirror/view";
import { onBeforeUnmount, onMounted, useTemplateRef, watch } from "vue";
import { api, take } from "@/api/client";
import type { PlanFileRead } from "@/api/types";
import { completer, type Schema } from "@/features/plans/completion";

const props = defineProps<{ problems: PlanFileRead["problems"]; workloads: string[] }>();
const text = defineModel<string>({ required: true });
const box = useTemplateRef<HTMLElement>("box");
let view: EditorView | null = null;

onMounted(async () => {
  const schema = (await take(api.GET("/api/v1/plan-files/schema")).catch(() => ({}))) as Schema;
  if (!box.value) return;
  view = new EditorView({
    parent: box.value,
    state: EditorState.create({
      doc: text.value,
      extensions: [
        lineNumbers(),
        history(),
        yaml(),
        indentOnInput(),
        closeBrackets(),
        lintGutter(),
        syntaxHighlighting(defaultHighlightStyle, { fallback: true }),
        autocompletion({ override: [completer(schema, () => props.workloads)] }),
        keymap.of([...completionKeymap, ...defaultKeymap, ...historyKeymap, indentWithTab]),
        EditorView.contentAttributes.of({ "aria-label": "Plan file" }),
        EditorView.updateListener.of((update) => {
          if (update.docChanged) text.value = update.state.doc.toString();
        }),
      ],
    }),
  });
  mark();
});
onBeforeUnmount(() => view?.destroy());

watch(text, (now) => {
  if (view && now !== view.state.doc.toString()) view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: now } });
});
function place(line: number, column: number): number {
  if (!view) return 0;
  const at = view.state.doc.line(Math.min(Math.max(line, 1), view.state.doc.lines));
  return Math.min(at.from + column - 1, at.to);
}
function mark() {
  if (!view) return;
  const found = props.problems.map((one) => {
    const from = place(one.line, one.column);
    return { from, to: view ? view.state.doc.lineAt(from).to : from, severity: "error" as const, message: `${one.sentence} ${one.remedy}` };
  });
  view.dispatch(setDiagnostics(view.state, found));
}
watch(() => props.problems, mark);
/** Bring the cursor to a place. */
function goTo(line: number, column: number) {
  view?.focus();
  view?.dispatch({ selection: { anchor: place(line, column) }, scrollIntoView: true });
}
defineExpose({ goTo });
</script>

<template>
  <div ref="box" class="text" />
</template>

<style>
.text .cm-editor {
  height: 52vh;
  border: 1px solid var(--rule);
  border-radius: var(--radius);
  background: var(--sheet);
  color: var(--ink-1);
}
.text .cm-scroller {
  font-family: var(--mono);
  font-size: var(--text-s);
  line-height: 1.45;
}
.text .cm-gutters {
  background: var(--paper);
  color: var(--ink-2);
  border-right: 1px solid var(--rule);
}
.text .cm-content {
  caret-color: var(--ink-1);
}
.text .cm-cursor {
  border-left-color: var(--ink-1);
}
.text .cm-editor.cm-focused {
  outline: 2px solid var(--brass);
}
.text .cm-tooltip {
  background: var(--sheet);
  color: var(--ink-1);
  border: 1px solid var(--rule);
}
.text .cm-tooltip-autocomplete ul li[aria-selected] {
  background: var(--brass-soft);
  color: var(--ink-1);
}
</style>
