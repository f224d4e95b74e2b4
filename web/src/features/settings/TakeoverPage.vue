<script setup lang="ts">
// Where a standby is made to conduct: what is known first, then the words.
import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref, watch } from "vue";
import { api, take } from "@/api/client";
import { useSession, useTakeover } from "@/api/queries";
import ProblemNote from "@/ui/ProblemNote.vue";
import PageSkeleton from "@/ui/PageSkeleton.vue";
import { ago, count, moment } from "@/ui/format";

const client = useQueryClient();
const { data: session } = useSession();
const follows = computed(() => !!session.value?.standby);
const { data, error } = useTakeover(follows);
const words = ref("");
const said = ref(false);
const saying = useMutation({
  mutationFn: () => take(api.POST("/api/v1/takeover", { body: { words: words.value } })),
  onSuccess: (now) => {
    said.value = true;
    client.setQueryData(["takeover"], now);
  },
});
const begun = computed(() => (said.value || !!data.value?.begun) && !data.value?.failed);
const may = computed(() => !!session.value?.may_take_over);

// What serves this page ends, and another takes its place, which knows nobody who was signed in here.
const { data: there } = useQuery({
  queryKey: ["taken-over"],
  queryFn: () => take(api.GET("/api/v1/session")),
  enabled: begun,
  refetchInterval: 1000,
});
watch(there, (now) => now && !now.standby && window.location.assign("/"));
</script>

<template>
  <div class="page">
    <h1 class="sentence">
      <template v-if="begun">This Maestoso takes over.</template>
      <template v-else-if="data?.connected">The primary answers: <b>it is alive</b>.</template>
      <template v-else-if="data">The primary does not answer.</template>
      <template v-else-if="follows">Taking over from the primary.</template>
      <template v-else>This Maestoso is no standby: it conducts.</template>
    </h1>
    <ProblemNote v-if="error && !begun" :error="error" />
    <PageSkeleton v-if="follows && !data && !error" :heading="0" :blocks="[200]" />
    <p v-if="begun" role="status">What has arrived is taken in, a new reign begins, and everything is started. This page comes back by itself; sign in anew then.</p>
    <template v-else-if="data">
      <dl>
        <dt>Primary</dt>
        <dd>{{ data.of }}, followed since {{ moment(data.since) }}</dd>
        <dt>What is here</dt>
        <dd>{{ data.sentence }}</dd>
        <dt>Its engine</dt>
        <dd>{{ data.heard_at ? `was heard last ${ago(data.heard_at)}; what people said since is asked of them anew` : "was never heard" }}</dd>
        <template v-if="data.witness">
          <dt>Witness</dt>
          <dd>{{ data.witness }} gives this standby the lease once it is over, and it takes over by itself then. {{ data.witness_said && `It said last: ${data.witness_said}` }}</dd>
        </template>
        <dt>Runs under way</dt>
        <dd>{{ data.under_way ? `${count(data.under_way, "run")} would go on here: what was done since is asked for again under the same keys, and is not done twice` : "none" }}</dd>
      </dl>
      <p>
        From then on this Maestoso conducts, and sites refuse the primary, whatever it asks for. <b>It cannot be taken back</b>: to go the other way, make the other one a standby of this one.
        <RouterLink class="link" to="/help/operations#the-dark-hour">The dark hour</RouterLink>
      </p>
      <p v-if="data.failed" class="bad" role="alert">✕ It could not be done the last time: {{ data.failed }}</p>
      <form class="form" @submit.prevent="saying.mutate()">
        <el-form-item :label="`Type ${data.words}`"><el-input v-model="words" name="words" class="entry" autocomplete="off" :disabled="!may" /></el-form-item>
        <ProblemNote v-if="saying.error.value" :error="saying.error.value" />
        <p v-if="!may" class="quiet">Only who may change settings can have it take over.</p>
        <div class="buttons"><el-button class="btn disaster" native-type="submit" :disabled="!may || words.trim() !== data.words || saying.isPending.value">Take over</el-button></div>
      </form>
    </template>
  </div>
</template>

<style scoped>
dl {
  display: grid;
  grid-template-columns: minmax(110px, max-content) 1fr;
  gap: var(--gap-2) var(--gap-4);
  margin: var(--gap-4) 0;
}
dt {
  color: var(--ink-2);
}
form {
  margin-top: var(--gap-4);
  max-width: 420px;
}
</style>
