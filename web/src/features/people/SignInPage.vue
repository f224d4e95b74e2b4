<script setup lang="ts">
// Where people may sign in instead of with a password: one provider of identities (OpenID Connect).
import { useQuery } from "@tanstack/vue-query";
import { useClipboard } from "@vueuse/core";
import { computed, ref, watch } from "vue";
import { api, take } from "@/api/client";
import { usePeople } from "@/api/queries";
import ProviderGroups from "@/features/people/ProviderGroups.vue";
import { emptyProvider, providerOf, type ProviderDraft, sentOf } from "@/features/people/provider";
import PageSkeleton from "@/ui/PageSkeleton.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import SettingsTabs from "@/ui/SettingsTabs.vue";
import { useAct } from "@/ui/act";
import { count } from "@/ui/format";

const { data, error } = useQuery({ queryKey: ["identity-provider"], queryFn: () => take(api.GET("/api/v1/identity-provider")), refetchOnWindowFocus: false });
const { data: people } = usePeople();
const draft = ref<ProviderDraft>(emptyProvider());
const kept = computed(() => data.value?.provider ?? null);
watch(kept, (now) => (draft.value = now ? providerOf(now) : emptyProvider()), { immediate: true });
const through = computed(() => (people.value?.people ?? []).filter((one) => one.through_provider).length);
const sentence = computed(() => {
  if (!kept.value) return "Everybody signs in with a password.";
  if (!through.value) return `Nobody signs in through ${kept.value.name} yet.`;
  return `${count(through.value, "person signs", "people sign")} in through ${kept.value.name}.`;
});
const back = `${window.location.origin}/sign-in/provider`;
const { copy, copied, isSupported } = useClipboard();
const said = ref("");
const { problem, busy, act } = useAct();
function doing(work: () => Promise<string>) {
  said.value = "";
  return act(async () => {
    said.value = await work();
  });
}
const save = () =>
  doing(async () => {
    await take(api.PUT("/api/v1/identity-provider", { body: sentOf(draft.value) }));
    return "Saved.";
  });
const tryIt = () =>
  doing(async () => {
    const found = await take(api.POST("/api/v1/identity-provider/try"));
    return `✓ It answers: people sign in at ${new URL(found.authorization).host}, and it signs with ${count(found.keys, "key")}.`;
  });
const remove = () =>
  doing(async () => {
    await take(api.DELETE("/api/v1/identity-provider"));
    return "Removed.";
  });
</script>

<template>
  <div class="page">
    <h1 class="sentence">{{ data ? sentence : "Sign-in" }}</h1>
    <SettingsTabs />
    <ProblemNote v-if="error" :error="error" />
    <PageSkeleton v-if="!data && !error" :heading="0" :blocks="[320]" />
    <form v-if="data" class="form" @submit.prevent="save">
      <h2>Identity provider</h2>
      <p class="quiet">People can sign in through a provider of your organisation (OpenID Connect). Second factors are then its affair, and its groups give roles.</p>
      <p>Register Maestoso there, and give it this address to come back to: <code class="mono">{{ back }}</code> <button v-if="isSupported" type="button" class="link" @click="copy(back)">{{ copied ? "Copied" : "Copy" }}</button></p>
      <div class="sides">
        <el-form-item label="Name, as on the button"><el-input v-model="draft.name" required maxlength="80" placeholder="House sign-in" /></el-form-item>
        <el-form-item label="Issuer"><el-input v-model="draft.issuer" class="mono" required maxlength="300" placeholder="https://sign-in.tidewell.example" /></el-form-item>
        <el-form-item label="Client ID"><el-input v-model="draft.client_id" class="mono" required maxlength="200" /></el-form-item>
        <el-form-item label="Client secret"><el-input v-model="draft.client_secret" type="password" autocomplete="off" :required="!kept" :placeholder="kept ? 'kept; write a new one to change it' : ''" /></el-form-item>
      </div>
      <p><el-checkbox v-model="draft.makes_accounts">Whoever the provider knows gets an account</el-checkbox> <span class="quiet">without it, only those who are invited here</span></p>
      <p><el-checkbox v-model="draft.second_factor">The provider asks for a second factor</el-checkbox> <span class="quiet">roles that want one take it for theirs</span></p>
      <ProviderGroups v-model="draft.roles" v-model:claim="draft.groups_claim" :roles="people?.roles ?? []" />
      <p class="buttons">
        <el-button v-may="'manage-people'" class="btn main" :disabled="busy" native-type="submit">Save</el-button>
        <el-button v-if="kept" v-may="'manage-people'" class="btn" :disabled="busy" @click="tryIt">Ask whether it answers</el-button>
        <el-popconfirm v-if="kept" title="Nobody can sign in through it any more." confirm-button-text="Remove it" cancel-button-text="No" width="260" @confirm="remove">
          <template #reference><el-button v-may="'manage-people'" class="btn danger" :disabled="busy">Remove …</el-button></template>
        </el-popconfirm>
        <span role="status">{{ said }}</span>
      </p>
      <ProblemNote v-if="problem" :error="problem" />
    </form>
  </div>
</template>

<style scoped>
h2 {
  margin: var(--gap-4) 0 var(--gap-2);
}
.form {
  max-width: 900px;
}
.form p {
  margin: var(--gap-2) 0;
}
.sides {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(320px, 100%), 1fr));
  column-gap: var(--gap-4);
}
</style>
