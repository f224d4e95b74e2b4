<script setup lang="ts">
// Whom Maestoso tells, how, and what became of it.
import { useQuery } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { api, take } from "@/api/client";
import type { WebhookView } from "@/api/types";
import EscalationForm from "@/features/messages/EscalationForm.vue";
import WebhookDialog from "@/features/messages/WebhookDialog.vue";
import PageSkeleton from "@/ui/PageSkeleton.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import SettingsTabs from "@/ui/SettingsTabs.vue";
import { useAct } from "@/ui/act";
import { ago, count, moment } from "@/ui/format";
import { vMay } from "@/ui/may";

const { data, error } = useQuery({ queryKey: ["messages"], queryFn: () => take(api.GET("/api/v1/messages")), refetchInterval: 5000 });
const stuck = computed(() => (data.value?.latest ?? []).filter((one) => one.state !== "sent"));
const edited = ref<WebhookView | null>(null);
const editing = ref(false);
const { problem, busy, act } = useAct();
const tried = ref("");
const ways = { mail: "By mail", webhook: "Webhook" } as Record<string, string>;

function edit(one: WebhookView | null) {
  [edited.value, editing.value] = [one, true];
}
const tell = (what: string, answer: { well: boolean; said: string }) => (tried.value = answer.well ? `${what} took it.` : `${what}: ${answer.said}`);
const tryMail = () => act(async () => tell("The mail server", await take(api.POST("/api/v1/messages/mail/try"))));
const tryOne = (one: WebhookView) => act(async () => tell(one.name, await take(api.POST("/api/v1/webhooks/{id}/try", { params: { path: { id: one.id } } }))));
const remove = (one: WebhookView) => act(() => take(api.DELETE("/api/v1/webhooks/{id}", { params: { path: { id: one.id } } })));
const again = (uid: string) => act(() => take(api.POST("/api/v1/messages/{uid}/again", { params: { path: { uid } } })));
const state = (one: { state: string; tries: number; next_at: string | null; sent_at: string | null }) =>
  one.state === "sent" && one.sent_at ? `✓ sent ${moment(one.sent_at, true)}` : one.state === "waiting" ? (one.tries ? `◌ tried ${count(one.tries, "time")}` : "◌ waits") : "✕ given up";
</script>

<template>
  <div class="page">
    <h1 class="sentence">
      <template v-if="!data">Whom Maestoso tells.</template>
      <template v-else-if="!data.mail_server && !data.webhooks.length">Maestoso tells nobody: there is no mail server and no webhook.</template>
      <template v-else-if="stuck.length">{{ count(stuck.length, "message is", "messages are") }} not taken yet.</template>
      <template v-else>Everything that was to be told has been taken.</template>
    </h1>
    <p class="under">What is new on the board and in runs. What each person is told they choose under <RouterLink to="/account">My account</RouterLink>.</p>
    <SettingsTabs />
    <ProblemNote v-if="error" :error="error" />
    <PageSkeleton v-if="!data && !error" :heading="0" :blocks="[80, 160, 240]" />
    <template v-if="data">
      <p class="said" role="status">{{ tried }}</p>
      <ProblemNote v-if="problem" :error="problem" />
      <h2>Mail</h2>
      <p v-if="data.mail_server">
        Through <code>{{ data.mail_server }}</code>, from <code>{{ data.mail_from }}</code>.
        <button v-may="'change-settings'" class="link" :disabled="busy" @click="tryMail">Send me one</button>
      </p>
      <p v-else>None is sent. The settings <code>mail_server</code> and <code>mail_from</code> change that: <RouterLink to="/help/messages#mail">how to</RouterLink>.</p>
      <h2>Webhooks</h2>
      <div v-if="data.webhooks.length" class="scroll" tabindex="0">
        <table class="lines">
          <thead>
            <tr><th>Name</th><th>Where</th><th>As</th><th>Standing</th><th><span class="out-of-sight">What can be done</span></th></tr>
          </thead>
          <tbody>
            <tr v-for="one in data.webhooks" :key="one.id">
              <td><b>{{ one.name }}</b></td>
              <td><code>{{ one.url }}</code></td>
              <td>{{ one.template ? "lines of a chat" : "signed events" }}</td>
              <td>{{ one.stopped_because ? `✕ ${one.stopped_because}` : !one.enabled ? "switched off" : one.waiting ? `◌ ${count(one.waiting, "waits", "wait")}` : "✓ all taken" }}</td>
              <td class="acts">
                <button v-may="'change-settings'" class="link" :disabled="busy" :aria-label="`Try it: ${one.name}`" @click="tryOne(one)">Try it</button>
                <button v-may="'change-settings'" class="link" :aria-label="`Change ${one.name}`" @click="edit(one)">Change</button>
                <el-popconfirm :title="`Remove ${one.name}? What still waits for it is not sent.`" confirm-button-text="Remove it" cancel-button-text="No" width="260" @confirm="remove(one)">
                  <template #reference><button v-may="'change-settings'" class="link" :aria-label="`Remove ${one.name}`">Remove</button></template>
                </el-popconfirm>
              </td>
            </tr>
          </tbody>
        </table>
      </div>
      <p><el-button v-may="'change-settings'" class="btn" @click="edit(null)">Add a webhook</el-button></p>
      <EscalationForm v-if="data.mail_server" :steps="data.escalation" />
      <h2>What went where</h2>
      <p v-if="!data.latest.length" class="quiet">Nothing yet. What was so before somebody could be told is not told.</p>
      <div v-else class="scroll" tabindex="0">
        <table class="lines">
          <thead>
            <tr><th>When</th><th>To</th><th>What</th><th>Became of it</th><th><span class="out-of-sight">What can be done</span></th></tr>
          </thead>
          <tbody>
            <tr v-for="one in data.latest" :key="one.id">
              <td class="when">{{ moment(one.made_at, true) }}</td>
              <td>{{ one.to }}<br /><span class="quiet">{{ ways[one.channel] }}</span></td>
              <td><div v-for="title in one.titles" :key="title">{{ title }}</div></td>
              <td>
                <span :class="{ bad: one.state === 'given up' }">{{ state(one) }}</span>
                <template v-if="one.state === 'waiting' && one.next_at && new Date(one.next_at).getTime() > Date.now()">, again {{ moment(one.next_at, true) }}</template>
                <div v-if="one.said" class="quiet">{{ one.said }}</div>
              </td>
              <td><button v-may="'change-settings'" class="link" :disabled="busy" :aria-label="`Send again what went to ${one.to} ${ago(one.made_at)}`" @click="again(one.id)">Send again</button></td>
            </tr>
          </tbody>
        </table>
      </div>
    </template>
    <WebhookDialog v-if="editing && data" v-model="editing" :webhook="edited" :topics="data.topics" />
  </div>
</template>

<style scoped>
h2 {
  margin: var(--gap-4) 0 var(--gap-1);
}
.said:not(:empty) {
  margin: var(--gap-2) 0;
}
code {
  overflow-wrap: anywhere;
}
.acts {
  white-space: nowrap;
}
.acts .link {
  margin-right: var(--gap-3);
}
.when {
  white-space: nowrap;
}
</style>
