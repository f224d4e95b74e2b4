<script setup lang="ts">
// What stands in the way of a start, what warns of it, and what earlier runs taught.
import { computed, ref } from "vue";
import { api, take } from "@/api/client";
import type { Preflight } from "@/api/types";
import KnownTraps from "@/ui/KnownTraps.vue";
import MarkdownText from "@/ui/MarkdownText.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAct } from "@/ui/act";
import { count, moment } from "@/ui/format";
import { outcomeShapes } from "@/ui/outcomes";

const reason = defineModel<string>("reason", { required: true });
const props = defineProps<{ code: string; preflight: Preflight | undefined; error: unknown; live: boolean }>();

const shapes: Record<string, string> = { blocks: "■", warns: "▲", note: "●" };
const shown = computed(() => {
  const found = props.preflight?.assessment.findings ?? [];
  return found.flatMap((finding) => {
    const severity = props.live && finding.live !== "same" ? finding.live : finding.severity;
    return severity === "none" ? [] : [{ ...finding, severity }];
  });
});
const warned = computed(() => shown.value.filter((finding) => finding.severity === "warns").length);

// Encrypted copies need their key; it is stored with the group, so it is asked for once.
const locked = computed(() => shown.value.filter((finding) => finding.code === "key-missing").map((finding) => finding.subject));
const secret = ref<Record<string, string>>({});
const { problem: keyProblem, act } = useAct();
async function storeKey(group: string) {
  await act(() => take(api.PUT("/api/v1/groups/{code}/key", { params: { path: { code: group } }, body: { key: secret.value[group] ?? "" } })));
  secret.value = {};
}
</script>

<template>
  <section>
    <h2>Before it may start</h2>
    <ul v-if="preflight" class="checks">
      <li v-for="finding in shown" :key="finding.sentence" :class="finding.severity">
        <span aria-hidden="true">{{ shapes[finding.severity] }}</span> {{ finding.sentence }}
        <RouterLink v-if="finding.mend" :to="`/plans/${code}`" class="link">{{ finding.mend }}</RouterLink>
      </li>
      <li v-if="!preflight.blocking.length"><span aria-hidden="true">✓</span> Nothing blocks it.</li>
    </ul>
    <label v-if="preflight && !preflight.blocking.length && warned" class="reason">
      Why in spite of {{ count(warned, "warning") }}? <span class="quiet">kept in the evidence</span>
      <el-input v-model="reason" maxlength="500" aria-label="Why in spite of the warnings" />
    </label>
    <form v-for="group in locked" :key="group" class="key" @submit.prevent="storeKey(group)">
      <el-form-item :label="`Key of the copies of ${group}`"><el-input v-model="secret[group]" type="password" autocomplete="off" maxlength="4096" :aria-label="`Key of ${group}`" /></el-form-item>
      <el-button v-may="'change-protection'" class="btn" :disabled="!secret[group]" native-type="submit">Store it</el-button>
      <span class="quiet">asked once; it is encrypted and never shown</span>
    </form>
    <ProblemNote v-if="keyProblem" :error="keyProblem" />
    <ProblemNote v-if="error" :error="error" />
    <template v-if="preflight?.traps.length">
      <h2>Known traps</h2>
      <KnownTraps :traps="preflight.traps" :things="[]" />
    </template>
    <template v-if="preflight?.notes.length">
      <h2>Noted in earlier runs</h2>
      <details v-for="one in preflight.notes" :key="one.run" class="noted">
        <summary>{{ outcomeShapes[one.outcome] ?? "" }} Run {{ one.run }}, {{ one.kind }}, {{ moment(one.ended_at) }}: {{ one.notes[0] }}</summary>
        <MarkdownText v-for="text in one.notes" :key="text" :text="text" />
        <RouterLink :to="`/runs/${one.run}/evidence`">Its evidence</RouterLink>
      </details>
    </template>
  </section>
</template>

<style scoped>
h2 {
  margin: var(--gap-2) 0;
  color: var(--ink-1);
}
.checks li {
  margin-bottom: 5px;
}
.checks .link {
  text-decoration: underline;
}
.checks .blocks {
  color: var(--disaster);
}
.key {
  border-left: 5px double var(--brass);
  padding-left: var(--gap-2);
  margin: var(--gap-2) 0;
}
.reason {
  display: block;
  margin-top: var(--gap-2);
}
.noted summary {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  cursor: pointer;
}
.noted[open] summary {
  white-space: normal;
}
</style>
