<script setup lang="ts">
// One's own account: what one may do, name, password, sessions, tokens of programs.
import { useQuery } from "@tanstack/vue-query";
import { ref, watch } from "vue";
import { api, take } from "@/api/client";
import { useSession } from "@/api/queries";
import AccountTokens from "@/features/people/AccountTokens.vue";
import MyMessages from "@/features/people/MyMessages.vue";
import MyReading from "@/features/people/MyReading.vue";
import PasskeyList from "@/features/people/PasskeyList.vue";
import SecondFactor from "@/features/people/SecondFactor.vue";
import PageSkeleton from "@/ui/PageSkeleton.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAct } from "@/ui/act";
import { ago, count, list } from "@/ui/format";

const { data, error } = useQuery({ queryKey: ["account"], queryFn: () => take(api.GET("/api/v1/account")) });
const { data: session } = useSession();
const fullName = ref("");
const mail = ref("");
let filled = false;
watch(
  data,
  (now) => {
    if (!now || filled) return;
    [fullName.value, mail.value, filled] = [now.full_name, now.mail, true];
  },
  { immediate: true },
);
const said = ref("");
const { problem, busy, act } = useAct();
async function save() {
  said.value = "";
  await act(async () => {
    await take(api.PUT("/api/v1/account", { body: { full_name: fullName.value, mail: mail.value } }));
    said.value = "Saved.";
  });
}
const password = ref("");
const wanted = ref("");
const { problem: passwordProblem, busy: changing, act: change } = useAct();
const changed = ref("");
async function changePassword() {
  changed.value = "";
  await change(async () => {
    await take(api.POST("/api/v1/account/password", { body: { password: password.value, new_password: wanted.value } }));
    [password.value, wanted.value, changed.value] = ["", "", "Changed. You are signed out everywhere else."];
  });
}
const { problem: sessionsProblem, busy: ending, act: end } = useAct();
const endOthers = () => end(() => take(api.DELETE("/api/v1/account/sessions")));
</script>

<template>
  <div class="page">
    <ProblemNote v-if="error" :error="error" />
    <PageSkeleton v-if="!data && !error" :heading="1" :blocks="[120, 240, 200]" />
    <template v-if="data">
      <h1 class="sentence">{{ data.full_name || data.name }}{{ data.roles.length ? `: ${list(data.roles.map((role) => role.name.toLowerCase()))}.` : " has no role yet. Ask an administrator." }}</h1>
      <ul>
        <li v-for="role in data.roles" :key="role.code">
          {{ role.words }} <b v-if="data.scopes[role.code]">As {{ role.name.toLowerCase() }} only {{ data.scopes[role.code] }}.</b>
          <details><summary>What you may as {{ role.name.toLowerCase() }}</summary><ul><li v-for="one in role.permissions" :key="one">You may {{ one }}.</li></ul></details>
        </li>
      </ul>
      <div class="sides">
        <section>
          <h2>Who you are</h2>
          <form class="form" @submit.prevent="save">
            <el-form-item label="Full name"><el-input v-model="fullName" required maxlength="80" /></el-form-item>
            <el-form-item label="Mail"><el-input v-model="mail" type="email" maxlength="254" /></el-form-item>
            <p><el-button class="btn" :disabled="busy" native-type="submit">Save</el-button> <span role="status">{{ said }}</span></p>
            <ProblemNote v-if="problem" :error="problem" />
          </form>
        </section>
        <section v-if="data.through_provider">
          <h2>Sign-in</h2>
          <p>You sign in through {{ session?.provider || "a provider" }}. Password and second factor are there.</p>
        </section>
        <section v-else>
          <h2>Password</h2>
          <form class="form" @submit.prevent="changePassword">
            <el-form-item label="Password of now"><el-input v-model="password" type="password" autocomplete="current-password" required /></el-form-item>
            <el-form-item label="New password, 12 characters or more"><el-input v-model="wanted" type="password" autocomplete="new-password" required minlength="12" /></el-form-item>
            <p><el-button class="btn" :disabled="changing" native-type="submit">Change it</el-button> <span role="status">{{ changed }}</span></p>
            <ProblemNote v-if="passwordProblem" :error="passwordProblem" />
          </form>
        </section>
      </div>
      <template v-if="!data.through_provider">
        <SecondFactor :account="data" />
        <PasskeyList :account="data" />
      </template>
      <MyReading />
      <MyMessages />
      <h2>Where you are signed in</h2>
      <ul class="sessions">
        <li v-for="one in data.sessions" :key="one.began_at">
          <b v-if="one.here">This browser</b><template v-else>{{ one.browser || "A browser that does not say what it is" }}</template>
          <span class="quiet"> from {{ one.address || "an address that was not noted" }}, since {{ ago(one.began_at) }}, last seen {{ ago(one.seen_at) }}</span>
        </li>
      </ul>
      <p v-if="data.sessions.length > 1"><el-button class="btn" :disabled="ending" @click="endOthers">Sign out {{ count(data.sessions.length - 1, "other session") }}</el-button></p>
      <ProblemNote v-if="sessionsProblem" :error="sessionsProblem" />
      <AccountTokens :account="data" />
    </template>
  </div>
</template>

<style scoped>
h2 {
  margin: var(--gap-4) 0 var(--gap-2);
}
summary {
  cursor: pointer;
  color: var(--brass);
}
.sides {
  display: grid;
  grid-template-columns: minmax(0, 420px) minmax(0, 420px);
  gap: var(--gap-5);
}
.sessions li {
  padding: 3px 0;
  overflow-wrap: anywhere;
}
@media (max-width: 900px) {
  .sides {
    grid-template-columns: minmax(0, 1fr);
    gap: 0;
  }
}
</style>
