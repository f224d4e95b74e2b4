<script setup lang="ts">
// Codes of an authenticator app at sign-in: set up, with recovery codes shown once, or removed.
import { useQueryClient } from "@tanstack/vue-query";
import { ref } from "vue";
import { api, take } from "@/api/client";
import type { Account, FactorBegun } from "@/api/types";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAct } from "@/ui/act";
import { count } from "@/ui/format";

defineProps<{ account: Account }>();
const client = useQueryClient();
const begun = ref<FactorBegun | null>(null);
const code = ref("");
const codes = ref<string[]>([]);
const removing = ref(false);
const password = ref("");
const { problem, busy, act } = useAct();
const begin = () => act(async () => (begun.value = await take(api.POST("/api/v1/account/second-factor"))));
const confirm = () =>
  act(async () => {
    codes.value = (await take(api.PUT("/api/v1/account/second-factor", { body: { one_time_code: code.value } }))).recovery_codes;
    [begun.value, code.value] = [null, ""];
    await client.invalidateQueries({ queryKey: ["session"] });
  });
const remove = () =>
  act(async () => {
    await take(api.POST("/api/v1/account/second-factor/removal", { body: { password: password.value } }));
    [password.value, removing.value] = ["", false];
  });
</script>

<template>
  <section aria-label="Second factor">
    <h2>Second factor</h2>
    <div v-if="codes.length" class="codes" role="status">
      <p>From now on you sign in with a code of your app. Keep these recovery codes where you find them without the device: each stands for one code, once. They are shown this once.</p>
      <ul class="mono"><li v-for="one in codes" :key="one">{{ one }}</li></ul>
      <el-button class="btn" @click="codes = []">I have kept them</el-button>
    </div>
    <template v-else-if="begun">
      <p>Read this with an authenticator app, or type the secret into it; then give the code that it shows.</p>
      <img :src="begun.picture" alt="The secret, to be read by an authenticator app" class="drawn">
      <p>Secret: <code class="mono">{{ begun.secret }}</code></p>
      <form class="line" @submit.prevent="confirm">
        <el-form-item label="Code of the app"><el-input v-model="code" class="mono" inputmode="numeric" autocomplete="one-time-code" required maxlength="6" /></el-form-item>
        <el-button class="btn main" :disabled="busy || code.trim().length !== 6" native-type="submit">Use it from now on</el-button>
        <el-button class="btn" @click="begun = null">Not now</el-button>
      </form>
    </template>
    <template v-else-if="account.second_factor">
      <p>✓ You sign in with a code as well. {{ count(account.recovery_codes, "recovery code is", "recovery codes are") }} left.</p>
      <form v-if="removing" class="line" @submit.prevent="remove">
        <el-form-item label="Your password"><el-input v-model="password" type="password" autocomplete="current-password" required /></el-form-item>
        <el-button class="btn danger" :disabled="busy || !password" native-type="submit">Remove it</el-button>
        <el-button class="btn" @click="removing = false">Keep it</el-button>
      </form>
      <el-button v-else class="btn" @click="removing = true">Remove it …</el-button>
    </template>
    <template v-else>
      <p class="quiet">With one, a password that somebody saw is not enough to sign in as you.</p>
      <el-button class="btn" :disabled="busy" @click="begin">Set up an authenticator app …</el-button>
    </template>
    <ProblemNote v-if="problem" :error="problem" />
  </section>
</template>

<style scoped>
h2 {
  margin: var(--gap-4) 0 var(--gap-2);
}
.codes {
  border-left: 4px solid var(--brass);
  padding: 6px 12px;
  max-width: 620px;
}
.codes ul {
  columns: 2;
  margin: var(--gap-2) 0;
}
.drawn {
  width: 200px;
  image-rendering: pixelated;
}
.line {
  display: flex;
  flex-wrap: wrap;
  gap: var(--gap-2);
  align-items: flex-end;
}
.line .btn {
  margin-bottom: 8px;
}
</style>
