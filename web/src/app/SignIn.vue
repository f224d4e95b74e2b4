<script setup lang="ts">
import { useQueryClient } from "@tanstack/vue-query";
import { ref } from "vue";
import { api, ApiError, keepCsrf, take } from "@/api/client";
import ProblemNote from "@/ui/ProblemNote.vue";

const client = useQueryClient();
const name = ref("administrator");
const password = ref("");
const error = ref<unknown>(null);
const busy = ref(false);
const code = ref("");
const wantsCode = ref(false);

async function signIn() {
  busy.value = true;
  error.value = null;
  try {
    const session = await take(api.POST("/api/v1/session", { body: { name: name.value, password: password.value, one_time_code: code.value } }));
    keepCsrf(session.csrf);
    client.setQueryData(["session"], session);
    await client.invalidateQueries();
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
  <main class="sign-in">
    <form @submit.prevent="signIn">
      <p class="mark"><b>m</b>aestoso</p>
      <h1 class="sentence">Sign in to see where everything runs.</h1>
      <el-form-item label="Name"><el-input v-model="name" name="name" autocomplete="username" required /></el-form-item>
      <el-form-item label="Password"><el-input v-model="password" name="password" type="password" autocomplete="current-password" required autofocus /></el-form-item>
      <el-form-item v-if="wantsCode" label="Code of your authenticator app, or a recovery code"><el-input v-model="code" name="one-time-code" class="mono" autocomplete="one-time-code" required autofocus /></el-form-item>
      <ProblemNote v-if="error" :error="error" />
      <el-button class="btn main" :disabled="busy" native-type="submit">Sign in</el-button>
    </form>
  </main>
</template>

<style scoped>
.sign-in {
  min-height: 100%;
  display: grid;
  place-items: center;
  padding: var(--gap-4);
}
form {
  width: min(420px, 100%);
  display: grid;
  gap: var(--gap-3);
}
.mark {
  font-family: var(--serif);
  font-size: var(--text-sentence);
  font-weight: 700;
}
.mark b {
  color: var(--brass);
}
label {
  display: grid;
  gap: var(--gap-1);
  font-weight: 600;
}
</style>
