<script setup lang="ts">
// What shall happen: test, planned, disaster, re-protect, each with what it would do.
import type { RunKind } from "@/api/types";

interface Offered {
  kind: RunKind;
  title: string;
  sentence: string;
  why_not: string;
}
const kind = defineModel<RunKind>({ required: true });
/** Undefined until the preflight has said what is in the way of each. */
defineProps<{ offered: Offered[] | undefined }>();

const KINDS: Offered[] = [
  { kind: "test", title: "Try it out", sentence: "in a sandbox; production is not touched", why_not: "" },
  { kind: "planned", title: "Move it", sentence: "no data loss: a final sync runs after the source is shut down", why_not: "" },
  { kind: "disaster", title: "The source is lost", sentence: "bring it up from the copies; what is newer than they are is lost", why_not: "" },
  { kind: "re-protect", title: "Copy it back", sentence: "only what differs; services go on running", why_not: "" },
];
const NAMES: Record<RunKind, string> = { test: "isolated test", planned: "planned failover", disaster: "disaster failover", "re-protect": "re-protect" };
</script>

<template>
  <div class="kinds" role="radiogroup" aria-label="What shall happen?">
    <button v-for="one in offered ?? KINDS" :key="one.kind" role="radio" :aria-checked="kind === one.kind" :title="one.why_not" :class="['kind', `of-${one.kind}`, { on: kind === one.kind }]" @click="kind = one.kind">
      <strong>{{ one.title }}</strong>
      <span>{{ one.sentence }}</span>
      <small>{{ NAMES[one.kind] }}<template v-if="one.why_not">, not now</template></small>
    </button>
  </div>
</template>

<style scoped>
.kinds {
  min-height: 105px;
  display: grid;
  grid-template-columns: repeat(4, minmax(0, 1fr));
  gap: var(--gap-3);
  margin: var(--gap-3) 0 0;
}
.kind {
  text-align: left;
  background: var(--sheet);
  border: 2px solid var(--rule);
  border-radius: var(--radius);
  padding: var(--gap-2) var(--gap-3);
  font: inherit;
  color: var(--ink-1);
  cursor: pointer;
  display: flex;
  flex-direction: column;
  gap: 2px;
}
.kind strong {
  font-family: var(--serif);
  font-size: var(--text-l);
  color: var(--own);
}
.kind small {
  color: var(--ink-2);
  margin-top: auto;
}
.kind.on {
  border: 2px solid var(--own);
  background: var(--own-soft);
}
.of-test.on {
  border-style: dashed;
}
.of-disaster.on {
  border: 4px double var(--own);
}
@media (max-width: 900px) {
  .kinds {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
