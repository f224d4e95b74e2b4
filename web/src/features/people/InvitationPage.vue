<script setup lang="ts">
// Where the link of an invitation leads: a password is chosen, and one is signed in.
import { useQueryClient } from "@tanstack/vue-query";
import { ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { api, keepCsrf, take } from "@/api/client";
import DoorForm from "@/ui/DoorForm.vue";
import ProblemNote from "@/ui/ProblemNote.vue";

const route = useRoute();
const router = useRouter();
const client = useQueryClient();
const name = String(route.params.name);
const password = ref("");
const again = ref("");
const error = ref<unknown>(null);
const busy = ref(false);
const differ = ref(false);
async function accept() {
  differ.value = password.value !== again.value;
  if (differ.value) return;
  busy.value = true;
  error.value = null;
  try {
    const session = await take(api.POST("/api/v1/invitations", { body: { name, secret: String(route.params.secret), password: password.value } }));
    keepCsrf(session.csrf);
    await router.replace("/");
    client.setQueryData(["session"], session);
  } catch (problem) {
    error.value = problem;
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <DoorForm heading="Choose your password." @done="accept">
    <p>You sign in as <b class="mono">{{ name }}</b>. 12 characters or more; a few words that only you put together are good.</p>
    <input type="text" autocomplete="username" :value="name" hidden>
    <el-form-item label="Password"><el-input v-model="password" type="password" autocomplete="new-password" required minlength="12" /></el-form-item>
    <el-form-item label="The same once more"><el-input v-model="again" type="password" autocomplete="new-password" required /></el-form-item>
    <p v-if="differ" class="bad" role="alert">The two passwords are not the same. Write the same one twice.</p>
    <ProblemNote v-else-if="error" :error="error" />
    <el-button class="btn main" :disabled="busy" native-type="submit">Sign in with it</el-button>
  </DoorForm>
</template>
