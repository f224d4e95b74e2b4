<script setup lang="ts">
// Passkeys of one's own: added with the password, used at sign-in, removed.
import { ref } from "vue";
import { api, take } from "@/api/client";
import type { Account } from "@/api/types";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAct } from "@/ui/act";
import { ago } from "@/ui/format";
import { makePasskey, passkeysHere } from "@/ui/passkeys";

defineProps<{ account: Account }>();
const adding = ref(false);
const name = ref("");
const password = ref("");
const { problem, busy, act } = useAct();
const add = () =>
  act(async () => {
    const { options } = await take(api.POST("/api/v1/account/passkeys/options", { body: { password: password.value } }));
    const credential = await makePasskey(options);
    await take(api.POST("/api/v1/account/passkeys", { body: { name: name.value, credential } }));
    [adding.value, name.value, password.value] = [false, "", ""];
  });
const remove = (id: number) => act(() => take(api.DELETE("/api/v1/account/passkeys/{id}", { params: { path: { id } } })));
</script>

<template>
  <section aria-label="Passkeys">
    <h2>Passkeys</h2>
    <p class="quiet">A phone, a key or this computer signs you in, after it has asked you for its PIN or your finger. No page that imitates this one gets anything of it, and no second factor is asked for.</p>
    <ul v-if="account.passkeys.length">
      <li v-for="one in account.passkeys" :key="one.id">
        <b>{{ one.name }}</b> <span class="quiet">added {{ ago(one.made_at) }}, {{ one.used_at ? `used ${ago(one.used_at)}` : "never used" }}</span>
        <el-popconfirm :title="`Remove ${one.name}? It signs nobody in any more.`" confirm-button-text="Remove it" cancel-button-text="No" width="260" @confirm="remove(one.id)">
          <template #reference><button class="link" :aria-label="`Remove ${one.name}`">Remove</button></template>
        </el-popconfirm>
      </li>
    </ul>
    <form v-if="adding" class="line" @submit.prevent="add">
      <el-form-item label="Name of the passkey"><el-input v-model="name" required maxlength="80" placeholder="my phone" /></el-form-item>
      <el-form-item label="Your password now"><el-input v-model="password" type="password" autocomplete="current-password" required /></el-form-item>
      <el-button class="btn main" :disabled="busy || !name.trim() || !password" native-type="submit">Add it</el-button>
      <el-button class="btn" @click="adding = false">Not now</el-button>
    </form>
    <el-button v-else-if="passkeysHere()" class="btn" @click="adding = true">Add a passkey …</el-button>
    <p v-else class="quiet">Passkeys belong to a name: open Maestoso by its name, not by an address in numbers, in a browser of our days, to add one.</p>
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
  gap: var(--gap-2);
  align-items: flex-end;
}
.line .btn {
  margin-bottom: 8px;
}
</style>
