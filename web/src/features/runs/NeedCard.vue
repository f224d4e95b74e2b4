<script setup lang="ts">
import { computed, onScopeDispose, ref } from "vue";
import { api, take } from "@/api/client";
import type { RunStatus } from "@/api/types";
import MarkdownText from "@/ui/MarkdownText.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { clock, list } from "@/ui/format";

const props = defineProps<{ need: RunStatus["needs"][number]; run: number }>();
const text = ref("");
const error = ref<unknown>(null);
const busy = ref(false);
const thens: Record<string, string> = { "go-on": "the run goes on by itself", stop: "the whole run is held", abort: "the run is aborted" };
const now = ref(Date.now());
const ticking = window.setInterval(() => (now.value = Date.now()), 1000);
onScopeDispose(() => window.clearInterval(ticking));
const left = computed(() => Math.max((new Date(props.need.ends_at ?? 0).getTime() - now.value) / 1000, 0));

async function tell(kind: string, more: { verdict?: string } = {}) {
  busy.value = true;
  error.value = null;
  try {
    await take(
      api.POST("/api/v1/runs/{id}/controls", {
        params: { path: { id: props.run }, header: { "Idempotency-Key": crypto.randomUUID() } },
        body: { kind, step: props.need.step, text: text.value, ...more },
      }),
    );
  } catch (problem) {
    error.value = problem;
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <article class="need" :class="need.kind">
    <h3>{{ need.title }}</h3>
    <MarkdownText v-if="need.kind === 'hold'" :text="need.text" />
    <p v-else>{{ need.text }}</p>
    <p v-if="need.who.length" class="quiet small">To be answered by {{ list(need.who) }}.</p>
    <p v-if="need.ends_at" class="ends">In {{ clock(left) }} {{ thens[need.then] }}, if nobody answers.</p>
    <textarea
      v-if="need.kind === 'verdict' || (need.kind === 'failure' && need.skippable)"
      v-model="text"
      rows="2"
      :placeholder="need.kind === 'verdict' ? 'Notes: what did you see?' : 'Reason, if you skip it'"
      :aria-label="need.kind === 'verdict' ? 'Notes' : 'Reason'"
    />
    <div class="buttons">
      <template v-if="need.kind === 'verdict'">
        <button class="btn test" :disabled="busy" @click="tell('verdict', { verdict: 'passed' })">✓ Passed</button>
        <button class="btn danger" :disabled="busy" @click="tell('verdict', { verdict: 'failed' })">✕ Failed</button>
        <button class="btn" :disabled="busy" @click="tell('verdict', { verdict: 'inconclusive' })">? Inconclusive</button>
      </template>
      <template v-else-if="need.kind === 'failure'">
        <button class="btn main" :disabled="busy" @click="tell('retry')">{{ need.again }}</button>
        <button v-if="need.skippable" class="btn" :disabled="busy || !text.trim()" title="Wants a reason" @click="tell('skip')">Skip it</button>
      </template>
      <button v-else-if="need.kind === 'hold'" class="btn main" :disabled="busy" @click="tell('answer')">Confirmed, go on</button>
      <button v-else class="btn main" :disabled="busy" @click="tell('resume')">Let it go on</button>
    </div>
    <p v-if="need.kind === 'verdict'" class="quiet small">Each verdict begins the cleanup.</p>
    <ProblemNote v-if="error" :error="error" />
  </article>
</template>

<style scoped>
.need {
  border-left: 4px solid var(--brass);
  background: var(--sheet);
  padding: 8px 12px 10px;
  margin-bottom: var(--gap-2);
}
.need.failure {
  border-left: 6px double var(--disaster);
}
h3 {
  font-size: var(--text-m);
}
textarea {
  width: 100%;
  font: inherit;
  margin-top: 6px;
  padding: 5px 8px;
  border: 1px solid var(--rule);
  border-radius: var(--radius);
  background: var(--paper);
  color: var(--ink-1);
  resize: vertical;
}
.buttons {
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
  margin-top: 6px;
}
.ends {
  color: var(--brass);
  font-weight: 600;
}
.small {
  font-size: var(--text-s);
  margin-top: 4px;
}
</style>
