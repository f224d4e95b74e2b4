<script setup lang="ts">
// Where the provider of identities sends the browser back to: its answer is handed in, and one is signed in.
import { useQueryClient } from "@tanstack/vue-query";
import { useSessionStorage } from "@vueuse/core";
import { onMounted, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { api, ApiError, keepCsrf, take } from "@/api/client";
import DoorForm from "@/ui/DoorForm.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { CAME_FOR } from "@/ui/signInThrough";

const route = useRoute();
const router = useRouter();
const client = useQueryClient();
const cameFor = useSessionStorage(CAME_FOR, "/");
const error = ref<unknown>(null);

onMounted(async () => {
  try {
    if (route.query.error) {
      // What stands in an address may come from anybody: it is not repeated.
      throw new ApiError({ type: "about:blank", title: "not-let-in", status: 403, code: "not-let-in", detail: "The provider did not let you in.", remedy: "Begin again, or sign in with a password." });
    }
    const body = { authorization_code: String(route.query.code ?? ""), state: String(route.query.state ?? "") };
    const session = await take(api.POST("/api/v1/session/provider", { body }));
    keepCsrf(session.csrf);
    await router.replace(cameFor.value);
    cameFor.value = null;
    client.setQueryData(["session"], session);
  } catch (problem) {
    error.value = problem;
  }
});
</script>

<template>
  <DoorForm :heading="error ? 'You are not signed in.' : 'One moment …'" @done="router.replace('/')">
    <template v-if="error">
      <ProblemNote :error="error" />
      <el-button class="btn main" native-type="submit">Back to sign-in</el-button>
    </template>
  </DoorForm>
</template>
