<script setup lang="ts">
import { useQueryClient } from "@tanstack/vue-query";
import { useSessionStorage } from "@vueuse/core";
import { ref } from "vue";
import { api, ApiError, keepCsrf, take } from "@/api/client";
import type { Session } from "@/api/types";
import DoorForm from "@/ui/DoorForm.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { askPasskey, passkeysHere } from "@/ui/passkeys";
import { CAME_FOR } from "@/ui/signInThrough";

const props = defineProps<{
  /** What one may sign in through instead; empty: nothing. */
  provider: string;
  /** Whether a link for a new password can be mailed. */
  mail: boolean;
  /** Whether this is a standby, where nothing but a password and a code is taken. */
  standby: boolean;
}>();

const client = useQueryClient();
const name = ref("administrator");
const password = ref("");
const error = ref<unknown>(null);
const busy = ref(false);
const code = ref("");
const wantsCode = ref(false);
const cameFor = useSessionStorage(CAME_FOR, "/");

async function come(session: Session) {
  keepCsrf(session.csrf);
  client.setQueryData(["session"], session);
  await client.invalidateQueries();
}

async function withPasskey() {
  busy.value = true;
  error.value = null;
  try {
    const { options } = await take(api.POST("/api/v1/session/passkey/options"));
    await come(await take(api.POST("/api/v1/session/passkey", { body: { credential: await askPasskey(options) } })));
  } catch (problem) {
    error.value = problem;
  } finally {
    busy.value = false;
  }
}

async function goThere() {
  busy.value = true;
  error.value = null;
  try {
    const { address } = await take(api.POST("/api/v1/session/provider/address"));
    // Of the browser, not of the router: a page that is still coming over a slow line is in the router's route only when it is there.
    cameFor.value = location.pathname + location.search + location.hash;
    window.location.assign(address);
  } catch (problem) {
    error.value = problem;
    busy.value = false;
  }
}

const asked = ref("");
const forgotten = ref(false);
async function forget() {
  forgotten.value = true;
  asked.value = "";
  if (!props.mail) return;
  busy.value = true;
  error.value = null;
  try {
    await take(api.POST("/api/v1/invitations/forgotten", { body: { name: name.value } }));
    asked.value = name.value;
  } catch (problem) {
    error.value = problem;
  } finally {
    busy.value = false;
  }
}

async function signIn() {
  busy.value = true;
  error.value = null;
  try {
    await come(await take(api.POST("/api/v1/session", { body: { name: name.value, password: password.value, one_time_code: code.value } })));
  } catch (problem) {
    // The password was right: only the code is asked for, without a reproach.
    if (problem instanceof ApiError && problem.problem.code === "needs-code") {
      wantsCode.value = true;
      return;
    }
    error.value = problem;
    code.value = "";
    if (!wantsCode.value) password.value = "";
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <main>
    <DoorForm heading="Sign in to see where everything runs." @done="signIn">
      <p v-if="standby" class="standby">This is a standby: you can look, and whoever may can have it take over. Passkeys and identity providers are those of its primary.</p>
      <el-form-item label="Name"><el-input v-model="name" name="name" autocomplete="username" required /></el-form-item>
      <el-form-item label="Password"><el-input v-model="password" name="password" type="password" autocomplete="current-password" required autofocus /></el-form-item>
      <el-form-item v-if="wantsCode" label="Code of your authenticator app, or a recovery code"><el-input v-model="code" name="one-time-code" class="mono" autocomplete="one-time-code" required autofocus /></el-form-item>
      <ProblemNote v-if="error" :error="error" />
      <el-button class="btn main" :disabled="busy" native-type="submit">Sign in</el-button>
      <el-button v-if="passkeysHere() && !wantsCode && !standby" class="btn" :disabled="busy" @click="withPasskey">Sign in with a passkey</el-button>
      <el-button v-if="provider && !wantsCode && !standby" class="btn" :disabled="busy" @click="goThere">Sign in through {{ provider }}</el-button>
      <p v-if="!wantsCode && !standby" class="quiet">
        <button type="button" class="link" :disabled="busy || (mail && !name)" @click="forget">Forgotten your password?</button>
      </p>
      <p v-if="forgotten" role="status">
        <template v-if="asked">If {{ asked }} is an account with a mail address, a link for a new password is on its way there. It may take some minutes; another one is not sent for a while.</template>
        <template v-else-if="!mail">Ask an administrator for a link. Where nobody gets in any more, <span class="mono">./maestoso admin NAME</span> on the machine itself helps.</template>
      </p>
    </DoorForm>
  </main>
</template>

<style scoped>
.standby {
  border-left: 6px double var(--brass);
  padding-left: var(--gap-3);
}
</style>
