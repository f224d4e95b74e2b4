<script setup lang="ts">
// Tokens of one's own programs: made, shown once, revoked.
import { ref } from "vue";
import { api, take } from "@/api/client";
import type { Account, Scope } from "@/api/types";
import ScopeChoice from "@/features/people/ScopeChoice.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAct } from "@/ui/act";
import { ago, exactMoment, list } from "@/ui/format";

const props = defineProps<{ account: Account }>();
const name = ref("");
const roles = ref<string[]>([]);
const days = ref(90);
const scope = ref<Scope>({ sites: [], plans: [], tags: [] });
const secret = ref("");
const { problem, busy, act } = useAct();
const make = () =>
  act(async () => {
    secret.value = (await take(api.POST("/api/v1/account/tokens", { body: { name: name.value, roles: roles.value, days: days.value, scope: scope.value } }))).secret;
    name.value = "";
  });
const revoke = (key: string) => act(() => take(api.DELETE("/api/v1/account/tokens/{key}", { params: { path: { key } } })));
const past = (end: string | null) => !!end && new Date(end).getTime() < Date.now();
const roleName = (code: string) => props.account.roles.find((role) => role.code === code)?.name.toLowerCase() ?? code;
</script>

<template>
  <section aria-label="Tokens">
    <h2>Tokens for programs</h2>
    <p class="quiet">A program sends <span class="mono">Authorization: Bearer TOKEN</span> and may what you choose here, as long as you may it. What it does stands in the audit trail under your name and that of the token.</p>
    <div v-if="secret" class="secret" role="status">
      <p>This is the token. It is shown this once.</p>
      <el-input :model-value="secret" readonly class="mono" aria-label="Token" @focus="($event.target as HTMLInputElement).select()" />
      <p><el-button class="btn" @click="secret = ''">I have it</el-button></p>
    </div>
    <div v-if="account.tokens.length" class="scroll" tabindex="0">
      <table class="lines">
        <thead>
          <tr><th>Name</th><th>May what</th><th>Good until</th><th>Last used</th><th><span class="out-of-sight">What can be done</span></th></tr>
        </thead>
        <tbody>
          <tr v-for="one in account.tokens" :key="one.key">
            <td><b>{{ one.name }}</b> <span class="mono quiet">{{ one.key }}…</span></td>
            <td>{{ list(one.roles.map(roleName)) }}{{ one.only ? `, ${one.only}` : "" }}</td>
            <td :class="{ bad: past(one.ends_at) }">{{ past(one.ends_at) ? "✕ ended " : "" }}{{ one.ends_at ? exactMoment(one.ends_at) : "for ever" }}</td>
            <td class="quiet">{{ one.used_at ? ago(one.used_at) : "never" }}</td>
            <td>
              <el-popconfirm :title="`Revoke ${one.name}? Programs that use it are refused at once.`" confirm-button-text="Revoke it" cancel-button-text="No" width="260" @confirm="revoke(one.key)">
                <template #reference><button class="link" :aria-label="`Revoke ${one.name}`">Revoke</button></template>
              </el-popconfirm>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <form class="line" @submit.prevent="make">
      <el-form-item label="Name of the program"><el-input v-model="name" required maxlength="80" placeholder="nightly export" /></el-form-item>
      <el-form-item label="May what you may as">
        <el-select v-model="roles" multiple class="roles" placeholder="choose" aria-label="Roles of the token"><el-option v-for="role in account.roles" :key="role.code" :value="role.code" :label="role.name" /></el-select>
      </el-form-item>
      <el-form-item label="And for"><ScopeChoice v-model="scope" role="the token" /></el-form-item>
      <el-form-item label="Good for, days"><el-input-number v-model="days" :min="1" :max="366" :precision="0" /></el-form-item>
      <el-button class="btn" :disabled="busy || !name.trim() || !roles.length" native-type="submit">Make a token</el-button>
    </form>
    <ProblemNote v-if="problem" :error="problem" />
  </section>
</template>

<style scoped>
h2 {
  margin: var(--gap-4) 0 var(--gap-2);
}
.line {
  display: flex;
  flex-wrap: wrap;
  gap: var(--gap-3);
  align-items: flex-end;
  margin-top: var(--gap-3);
}
.line .btn {
  margin-bottom: 8px;
}
.roles {
  width: 240px;
}
.secret {
  border-left: 4px solid var(--brass);
  padding: 6px 12px;
  margin: var(--gap-2) 0;
}
</style>
