<script setup lang="ts">
// One request: what would happen, how likely it is to go well, and the answer. Made for a phone.
import { useQuery } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { useRoute } from "vue-router";
import { api, doApproved, take } from "@/api/client";
import { useSession } from "@/api/queries";
import type { Invitation } from "@/api/types";
import { kindNames, stateOf } from "@/features/approvals/words";
import FindingList from "@/ui/FindingList.vue";
import PageSkeleton from "@/ui/PageSkeleton.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAct } from "@/ui/act";
import { ago, chance, duration, list, moment } from "@/ui/format";
import { mayNot } from "@/ui/may";

const route = useRoute();
const id = computed(() => Number(route.params.id));
const { data: session } = useSession();
const { data, error } = useQuery({ queryKey: ["approvals", id], queryFn: () => take(api.GET("/api/v1/approvals/{id}", { params: { path: { id: id.value } } })) });
const { data: preflight, error: preflightError } = useQuery({
  queryKey: ["preflight", "approval", id],
  queryFn: () => take(api.POST("/api/v1/plans/{code}/preflight", { params: { path: { code: data.value!.plan } }, body: data.value!.options! })),
  enabled: computed(() => !!data.value?.options && (data.value.state === "open" || data.value.state === "granted")),
  retry: false,
});
const text = ref("");
const { problem, busy, act } = useAct();
const answer = (granted: boolean) => act(() => take(api.POST("/api/v1/approvals/{id}/answer", { params: { path: { id: id.value } }, body: { granted, text: text.value } })));
/** Of an invitation: shown this once, as where it is made without asking. */
const link = ref("");
/** The address that it was mailed to instead, or why it was not. */
const mailed = ref("");
const notMailed = ref("");
const carryOut = () =>
  act(async () => {
    const made = (await doApproved(data.value!.deed!, id.value)) as Partial<Invitation> | null;
    if (made?.link) link.value = `${window.location.origin}${made.link}`;
    mailed.value = made?.mailed ? (made.person?.mail ?? "") : "";
    notMailed.value = made?.not_mailed ?? "";
  });
const withdraw = () => act(() => take(api.DELETE("/api/v1/approvals/{id}", { params: { path: { id: id.value } } })));
const own = computed(() => data.value?.asked_by === session.value?.name);
const forecast = computed(() => preflight.value?.assessment.forecast);
</script>

<template>
  <div class="page">
    <ProblemNote v-if="error" :error="error" />
    <PageSkeleton v-if="!data && !error" :heading="2" :blocks="[120, 120, 80]" />
    <template v-if="data">
      <h1 v-if="data.deed" class="sentence">{{ data.asked_by }} wants to {{ data.plan_name }}.</h1>
      <h1 v-else class="sentence">{{ data.asked_by }} wants to start {{ kindNames[data.kind] }} of <RouterLink :to="`/plans/${data.plan}`">{{ data.plan_name }}</RouterLink>.</h1>
      <p class="under">
        <b :class="{ bad: data.state === 'refused' }" data-testid="state">{{ stateOf(data) }}</b>, asked {{ ago(data.asked_at) }}{{ data.deed ? "" : ` for version ${data.plan_version}` }}; good until {{ moment(data.ends_at) }}.
        <template v-if="data.run"> <RouterLink :to="`/runs/${data.run}`">Run {{ data.run }}</RouterLink>.</template>
      </p>
      <p v-if="mailed" role="status">A mail with a link went to {{ mailed }}.</p>
      <p v-if="notMailed" class="bad" role="alert">It could not be mailed. {{ notMailed }}</p>
      <p v-if="link">Give this link to whom it is for. It is shown this once, and good once: <code class="mono">{{ link }}</code></p>
      <p v-if="data.reason">“{{ data.reason }}”</p>
      <section v-if="data.deed?.details.length" class="consequences">
        <p v-for="(line, at) in data.deed.details" :key="at">{{ line }}</p>
      </section>
      <section v-if="preflight" :class="['consequences', `of-${data.kind}`]">
        <p v-for="sentence in preflight.consequences" :key="sentence">{{ sentence }}</p>
      </section>
      <ProblemNote v-if="preflightError" :error="preflightError" />
      <p v-if="forecast">It would be up in <b>{{ duration(forecast.p50_s) }}</b> ({{ duration(forecast.p10_s) }} to {{ duration(forecast.p95_s) }}), {{ chance(forecast.chance) }} inside {{ duration(forecast.objective_s) }}.</p>
      <template v-if="preflight">
        <p v-if="preflight.blocking.length" class="bad">It could not start now: {{ preflight.blocking[0]?.sentence }}</p>
        <h2>Findings now</h2>
        <FindingList v-if="preflight.assessment.findings.length" :findings="preflight.assessment.findings" compact />
        <p v-else class="quiet">No findings.</p>
      </template>
      <h2>Answers, {{ data.answers.filter((one) => one.granted).length }} of {{ data.needed }}</h2>
      <ul>
        <li v-for="one in data.answers" :key="one.by"><b :class="{ bad: !one.granted }">{{ one.granted ? "✓" : "✕" }} {{ one.by }}</b> {{ one.text }} <span class="quiet">{{ ago(one.at) }}</span></li>
        <li v-if="!data.answers.length" class="quiet">Nobody has answered yet. {{ data.approvers.length ? `${list(data.approvers)} may.` : "Nobody else may: ask an administrator." }}</li>
      </ul>
      <template v-if="data.state === 'open'">
        <p v-if="data.why_not || mayNot('approve')" class="quiet">{{ data.why_not || mayNot("approve") }}</p>
        <form v-else class="answer" @submit.prevent="answer(true)">
          <el-form-item label="What you have to say (a refusal wants a reason)"><el-input v-model="text" type="textarea" :rows="2" maxlength="500" /></el-form-item>
          <p class="buttons">
            <el-button class="btn main" :disabled="busy" native-type="submit">Approve</el-button>
            <el-button class="btn danger" :disabled="busy || !text.trim()" @click="answer(false)">Refuse</el-button>
          </p>
        </form>
      </template>
      <p v-if="own && (data.state === 'open' || data.state === 'granted')" class="buttons">
        <el-button v-if="data.deed && data.state === 'granted'" class="btn main" :disabled="busy" @click="carryOut">Do it now</el-button>
        <RouterLink v-else-if="data.state === 'granted'" class="btn main" :to="`/plans/${data.plan}/start?kind=${data.kind}`">To the start</RouterLink>
        <el-button class="btn" :disabled="busy" @click="withdraw">Withdraw it</el-button>
      </p>
      <ProblemNote v-if="problem" :error="problem" />
    </template>
  </div>
</template>

<style scoped>
h2 {
  margin: var(--gap-4) 0 var(--gap-1);
}
.consequences {
  border: 2px solid var(--own, var(--rule));
  border-radius: var(--radius);
  background: var(--own-soft, transparent);
  padding: var(--gap-2) var(--gap-4);
  margin: var(--gap-3) 0;
}
.answer {
  max-width: 560px;
  margin-top: var(--gap-3);
}
</style>
