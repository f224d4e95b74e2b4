<script setup lang="ts">
// Everybody who can sign in, and what each of them may do.
import { computed, ref } from "vue";
import { api, take } from "@/api/client";
import { usePeople } from "@/api/queries";
import type { PersonView, RoleView } from "@/api/types";
import PersonDialog from "@/features/people/PersonDialog.vue";
import RoleDialog from "@/features/people/RoleDialog.vue";
import PageSkeleton from "@/ui/PageSkeleton.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import SettingsTabs from "@/ui/SettingsTabs.vue";
import { useAct } from "@/ui/act";
import { ago, count, list } from "@/ui/format";

const { data, error } = usePeople();
const open = ref(false);
const person = ref<PersonView | null>(null);
const states: Record<string, string> = { active: "✓ active", invited: "◌ invited", disabled: "✕ disabled" };
const names = computed(() => new Map((data.value?.roles ?? []).map((role) => [role.code, role.name])));
const able = (code: string) => (data.value?.people ?? []).filter((one) => one.state === "active" && one.roles.includes(code));
/** A role with what it is for, where that is not everything. */
function roleOf(one: PersonView, code: string) {
  const scope = one.scopes[code];
  const named = scope ? [...scope.sites, ...scope.plans, ...scope.tags.map((tag) => `tagged ${tag}`)] : [];
  return `${names.value.get(code) ?? code}${named.length ? ` (${named.join(", ")})` : ""}`;
}
const sentence = computed(() => {
  const active = (data.value?.people ?? []).filter((one) => one.state === "active").length;
  const invited = (data.value?.people ?? []).filter((one) => one.state === "invited").length;
  return `${count(active, "person", "people")} can sign in${invited ? `; ${invited} ${invited === 1 ? "is" : "are"} invited and ${invited === 1 ? "has" : "have"} not come yet` : ""}.`;
});
const { problem, act } = useAct();
const wantFactor = (code: string, wanted: boolean) => act(() => take(api.PUT("/api/v1/roles/{code}", { params: { path: { code } }, body: { second_factor: wanted } })));
const roleOpen = ref(false);
const changing = ref<RoleView | null>(null);
function showRole(one: RoleView | null) {
  changing.value = one;
  roleOpen.value = true;
}
function show(one: PersonView | null) {
  person.value = one;
  open.value = true;
}
</script>

<template>
  <div class="page">
    <h1 class="sentence">{{ data ? sentence : "People" }}</h1>
    <SettingsTabs />
    <ProblemNote v-if="error || problem" :error="error || problem" />
    <PageSkeleton v-if="!data && !error" :heading="0" :blocks="[240, 200]" />
    <template v-if="data">
      <p><el-button v-may="'manage-people'" class="btn main" @click="show(null)">Invite somebody …</el-button></p>
      <div class="scroll" tabindex="0">
        <table class="lines">
          <thead>
            <tr><th>Name</th><th>Signs in as</th><th>Roles</th><th>State</th><th>Last signed in</th></tr>
          </thead>
          <tbody>
            <tr v-for="one in data.people" :key="one.name" :data-person="one.name">
              <td><button v-may="'manage-people'" class="link" @click="show(one)">{{ one.full_name || one.name }}</button></td>
              <td class="mono">{{ one.name }}</td>
              <td>{{ list(one.roles.map((code) => roleOf(one, code))) || "none: sees nothing" }}</td>
              <td :class="{ bad: one.state === 'disabled' }">{{ states[one.state] }}{{ one.through_provider ? `, through ${data.provider}` : "" }}{{ one.second_factor ? ", second factor" : "" }}</td>
              <td class="quiet">{{ one.last_sign_in ? ago(one.last_sign_in) : "never" }}</td>
            </tr>
          </tbody>
        </table>
      </div>
      <h2>What each role may do</h2>
      <p><el-button v-may="'manage-people'" class="btn" @click="showRole(null)">New role …</el-button></p>
      <dl>
        <template v-for="role in data.roles" :key="role.code">
          <dt><b>{{ role.name }}</b> <button v-if="role.own" v-may="'manage-people'" class="link" :aria-label="`Change ${role.name}`" @click="showRole(role)">Change …</button></dt>
          <dd>
            {{ role.words }}
            <span class="quiet">{{ able(role.code).length ? `Held by ${list(able(role.code).map((one) => one.full_name || one.name))}.` : "Held by nobody." }}</span>
            <p><el-checkbox v-may="'manage-people'" :model-value="role.second_factor" @change="wantFactor(role.code, Boolean($event))">must sign in with a second factor</el-checkbox></p>
            <details><summary>{{ count(role.permissions.length, "permission") }}</summary><ul><li v-for="one in role.permissions" :key="one">May {{ one }}.</li></ul></details>
          </dd>
        </template>
      </dl>
      <RoleDialog v-if="roleOpen" v-model="roleOpen" :role="changing" :permissions="data.permissions" />
      <PersonDialog v-if="open" v-model="open" :person="person" :roles="data.roles" :provider="data.provider" />
    </template>
  </div>
</template>

<style scoped>
h2 {
  margin: var(--gap-4) 0 var(--gap-2);
}
dl {
  margin-top: var(--gap-3);
  display: grid;
  grid-template-columns: 130px minmax(0, 70ch);
  gap: var(--gap-2);
}
dd {
  margin: 0;
}
summary {
  cursor: pointer;
  color: var(--brass);
}
@media (max-width: 600px) {
  dl {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
