<script setup lang="ts">
// One person: invited, given roles, disabled; a link with which they choose a password is shown once.
import { useClipboard } from "@vueuse/core";
import { computed, onMounted, ref } from "vue";
import { api, take } from "@/api/client";
import type { Invitation, PersonView, RoleView, Scope } from "@/api/types";
import ScopeChoice from "@/features/people/ScopeChoice.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAct } from "@/ui/act";
import { count } from "@/ui/format";

const open = defineModel<boolean>({ required: true });
/** Nobody: somebody new is invited. */
const props = defineProps<{
  person: PersonView | null;
  roles: RoleView[];
  /** What one may sign in through instead of with a password; empty: nothing. */
  provider: string;
}>();
const name = ref("");
const fullName = ref("");
const mail = ref("");
const chosen = ref<string[]>(["viewer"]);
const scopes = ref<Record<string, Scope>>({});
/** Of the roles that are given; without one a role is for everything. */
const scopesSent = () => Object.fromEntries(Object.entries(scopes.value).filter(([role, one]) => chosen.value.includes(role) && one.sites.length + one.plans.length + one.tags.length > 0));
const active = ref(true);
const throughProvider = ref(false);
/** What it means to sign in elsewhere than now. */
const moves = computed(() => {
  if (!props.person || throughProvider.value === props.person.through_provider) return "and not with a password";
  return throughProvider.value ? "and not with a password; sessions end now" : "sessions end now; make a link for a password then";
});
const link = ref("");
const days = ref(0);
/** The address that a link was mailed to, or why it was not. */
const mailed = ref("");
const notMailed = ref("");
const { problem, busy, act } = useAct();
const { copy, copied, isSupported } = useClipboard();

onMounted(() => {
  if (!props.person) return;
  [name.value, fullName.value, mail.value, chosen.value, active.value] = [props.person.name, props.person.full_name, props.person.mail, [...props.person.roles], props.person.state !== "disabled"];
  throughProvider.value = props.person.through_provider;
  scopes.value = { ...props.person.scopes };
});
function shown(made: Invitation) {
  link.value = made.link && `${window.location.origin}${made.link}`;
  [days.value, mailed.value, notMailed.value] = [made.days, made.mailed ? made.person.mail : "", made.not_mailed];
}
async function save() {
  await act(async () => {
    const body = { full_name: fullName.value, mail: mail.value, roles: chosen.value, scopes: scopesSent(), through_provider: throughProvider.value };
    if (props.person) {
      await take(api.PUT("/api/v1/people/{name}", { params: { path: { name: props.person.name } }, body: { ...body, active: active.value } }));
      open.value = false;
      return;
    }
    const made = await take(api.POST("/api/v1/people", { body: { ...body, name: name.value } }));
    if (made.link || made.mailed) shown(made);
    else open.value = false;
  });
}
const forgetFactor = () =>
  act(async () => {
    await take(api.DELETE("/api/v1/people/{name}/second-factor", { params: { path: { name: name.value } } }));
    open.value = false;
  });
const again = (show: boolean) => act(async () => shown(await take(api.POST("/api/v1/people/{name}/invitation", { params: { path: { name: name.value } }, body: { shown: show } }))));
</script>

<template>
  <el-dialog v-model="open" :title="person ? person.full_name || person.name : 'Invite somebody'" width="min(560px, 94vw)">
    <p v-if="mailed">A mail with a link went to {{ mailed }}. The link is good once, and for {{ count(days, "day") }}.</p>
    <template v-else-if="link">
      <p v-if="notMailed" class="bad" role="alert">It could not be mailed. {{ notMailed }}</p>
      <p>Give this link to {{ fullName }}. It is shown this once, is good once, and for {{ count(days, "day") }}.</p>
      <p><el-input :model-value="link" readonly class="mono" aria-label="Link" @focus="($event.target as HTMLInputElement).select()" /></p>
    </template>
    <form v-else id="person" class="form" @submit.prevent="save">
      <el-form-item label="Full name"><el-input v-model="fullName" required maxlength="80" /></el-form-item>
      <el-form-item label="Signs in as"><el-input v-model="name" class="mono" required maxlength="150" :disabled="!!person" /></el-form-item>
      <el-form-item label="Mail"><el-input v-model="mail" type="email" maxlength="254" /></el-form-item>
      <fieldset>
        <legend>Roles</legend>
        <p v-for="role in roles" :key="role.code">
          <el-checkbox :model-value="chosen.includes(role.code)" :disabled="!!person?.groups[role.code]" @change="chosen = $event ? [...chosen, role.code] : chosen.filter((one) => one !== role.code)">{{ role.name }}</el-checkbox>
          <ScopeChoice v-if="chosen.includes(role.code) && !person?.groups[role.code]" v-model="scopes[role.code]" :role="role.name" />
          <span class="quiet"> {{ role.words }}{{ person?.sources[role.code] ? ` (${person.sources[role.code]})` : "" }}</span>
        </p>
      </fieldset>
      <p v-if="provider"><el-checkbox v-model="throughProvider">Signs in through {{ provider }}</el-checkbox> <span class="quiet">{{ moves }}</span></p>
      <p v-if="person"><el-checkbox v-model="active">Can sign in</el-checkbox> <span class="quiet">without it, sessions and tokens end at once; what they did keeps their name</span></p>
    </form>
    <ProblemNote v-if="problem" :error="problem" />
    <template #footer>
      <template v-if="mailed">
        <el-button class="btn" :disabled="busy" @click="again(true)">Show a link instead</el-button>
        <el-button class="btn main" @click="open = false">Done</el-button>
      </template>
      <template v-else-if="link">
        <el-button v-if="isSupported" class="btn" @click="copy(link)">{{ copied ? "Copied" : "Copy it" }}</el-button>
        <el-button class="btn main" @click="open = false">Done</el-button>
      </template>
      <template v-else>
        <el-button v-if="person && person.state !== 'disabled' && !person.through_provider" class="btn" :disabled="busy" @click="again(false)">{{ person.state === "invited" ? "Another link …" : "Link for a new password …" }}</el-button>
        <el-button v-if="person?.second_factor" class="btn" :disabled="busy" @click="forgetFactor">Remove the second factor</el-button>
        <el-button class="btn" @click="open = false">Cancel</el-button>
        <el-button class="btn main" :disabled="busy" native-type="submit" form="person">{{ person ? "Save" : "Invite" }}</el-button>
      </template>
    </template>
  </el-dialog>
</template>

<style scoped>
fieldset {
  border: 0;
  padding: 0;
  margin: var(--gap-2) 0;
}
legend {
  font-weight: 600;
}
p .quiet {
  margin-left: var(--gap-1);
}
</style>
