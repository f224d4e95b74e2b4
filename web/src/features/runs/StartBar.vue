<script setup lang="ts">
// What a start will do in short, and the button; or the second signature that it needs first.
import { useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { useRouter } from "vue-router";
import { api, take } from "@/api/client";
import { useApprovals, useSession } from "@/api/queries";
import type { Preflight, RunKind, RunOptions } from "@/api/types";
import EmergencyDialog from "@/features/runs/EmergencyDialog.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAct } from "@/ui/act";
import { count, list } from "@/ui/format";
import { useKeys } from "@/ui/keys";
import { mayNot } from "@/ui/may";

const props = defineProps<{ code: string; kind: RunKind; options: RunOptions; preflight: Preflight | undefined; reason: string }>();
const router = useRouter();
const client = useQueryClient();
const { data: session } = useSession();
const { data: approvals } = useApprovals();
const confirm = ref("");
const needed = computed(() => (props.kind === "test" ? "run-tests" : "run-live"));
const live = computed(() => props.kind === "planned" || props.kind === "disaster");
/** One's own request for such a run of this plan, while it is of use. */
const asked = computed(() => (approvals.value ?? []).find((one) => one.plan === props.code && one.kind === props.kind && one.asked_by === session.value?.name && (one.state === "open" || one.state === "granted")));
const granted = computed(() => asked.value?.state === "granted");
const unsigned = computed(() => (props.preflight?.approvals ?? 0) > 0 && !granted.value);
const confirmed = computed(() => !live.value || confirm.value.trim() === props.code);
const { problem, busy, act } = useAct();
const possible = computed(() => !busy.value && !!props.preflight && !props.preflight.blocking.length);
const mayStart = computed(() => possible.value && confirmed.value && !unsigned.value);
const inShort: Record<RunKind, string> = {
  test: "Production is not touched.",
  planned: "Services stop until they are up at the other site; no data is lost.",
  disaster: "Production comes up at the other site for real; what is newer than the chosen points is lost.",
  "re-protect": "Services go on; only what differs is copied.",
};
const presses: Record<RunKind, string> = { test: "Start the test", planned: "Start the planned failover", disaster: "Start the disaster failover", "re-protect": "Start the re-protect" };

// One key for each visit of a kind: pressing twice starts one run.
const key = crypto.randomUUID();
async function begin(emergency = "") {
  problem.value = null;
  busy.value = true;
  try {
    const body = { plan: props.code, confirm: confirm.value.trim(), reason: props.reason.trim(), options: props.options, approval: granted.value ? (asked.value?.id ?? 0) : 0, emergency };
    const run = await take(api.POST("/api/v1/runs", { params: { header: { "Idempotency-Key": key } }, body }));
    void client.invalidateQueries();
    await router.push(`/runs/${run.id}`);
  } catch (caught) {
    problem.value = caught;
  } finally {
    busy.value = false;
  }
}
const start = () => mayStart.value && void begin();
const ask = () =>
  act(async () => {
    const made = await take(api.POST("/api/v1/approvals", { body: { plan: props.code, options: props.options, reason: props.reason.trim() } }));
    await router.push(`/approvals/${made.id}`);
  });
const emergency = ref(false);
useKeys([{ keys: ["Ctrl+Enter"], label: "Start it", run: () => void start() }]);
</script>

<template>
  <section :class="['bar', `of-${kind}`]" aria-label="Start" data-over>
    <p v-if="mayNot(needed)" class="bad what">{{ mayNot(needed) }}</p>
    <p v-else-if="preflight?.blocking.length" class="bad what">It cannot start now: {{ preflight.blocking[0]?.sentence }}</p>
    <p v-else-if="granted && asked" class="what"><b>✓ Approved by {{ list(asked.answers.map((one) => one.by)) }}.</b> It starts with the choices <RouterLink :to="`/approvals/${asked.id}`">that were approved</RouterLink>, not with those above.</p>
    <p v-else-if="unsigned && preflight" class="what">
      <b>It needs {{ count(preflight.approvals, "approval") }}.</b>
      <template v-if="asked">{{ " " }}<RouterLink :to="`/approvals/${asked.id}`">You have asked</RouterLink>; {{ asked.answers.length }} of {{ asked.needed }} have approved.</template>
      <template v-else-if="preflight.approvers.length">{{ " " }}{{ list(preflight.approvers) }} may give {{ preflight.approvals === 1 ? "it" : "them" }}.</template>
      <template v-else>{{ " " }}Nobody may give it: ask an administrator.</template>{{ " " }}
      <button v-if="kind === 'disaster' && possible" v-may="needed" class="link bad" @click="emergency = true">Start it as an emergency …</button>
    </p>
    <p v-else class="what">{{ inShort[kind] }}</p>
    <label v-if="live && !unsigned" class="confirm">
      Type <b class="mono">{{ code }}</b> to confirm
      <el-input v-model="confirm" :placeholder="code" aria-label="The plan's code, to confirm" maxlength="12" />
    </label>
    <el-button v-if="unsigned" v-may="needed" :class="['btn', kind]" :disabled="!possible || !approvals || !!asked" @click="ask">Ask for approval</el-button>
    <el-button v-else v-may="needed" :class="['btn', kind]" :disabled="!mayStart" @click="start">{{ presses[kind] }}</el-button>
    <kbd v-if="!unsigned">Ctrl ↵</kbd>
    <ProblemNote v-if="problem" :error="problem" />
    <EmergencyDialog v-if="emergency" v-model="emergency" v-model:confirm="confirm" :code="code" :busy="busy" @start="begin" />
  </section>
</template>

<style scoped>
.bar {
  position: sticky;
  bottom: 0;
  z-index: 1;
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: var(--gap-2) var(--gap-3);
  margin-top: var(--gap-4);
  padding: var(--gap-2) 0;
  border-top: 2px solid var(--own);
  background: var(--paper);
}
.bar .what {
  flex: 1 1 300px;
  margin: 0;
}
.bar .confirm {
  display: flex;
  margin: 0;
  align-items: center;
  gap: var(--gap-2);
}
.bar .confirm .el-input {
  width: 110px;
}
</style>
