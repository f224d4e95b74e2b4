<script setup lang="ts">
// The script library, and the secrets that scripts are given.
import { useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { api, take } from "@/api/client";
import { useLibrary } from "@/api/queries";
import type { ScriptView } from "@/api/types";
import PageSkeleton from "@/ui/PageSkeleton.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import RecoveredNote from "@/ui/RecoveredNote.vue";
import { useFormDraft } from "@/ui/formDraft";
import { offerUndo } from "@/ui/undo";
import { ago, count, list } from "@/ui/format";

const client = useQueryClient();
const { data, error } = useLibrary();
const open = ref(false);
const name = ref("");
const interpreter = ref("sh");
const note = ref("");
const text = ref("");
const revision = ref(0);
const problem = ref<unknown>(null);
const said = ref("");
const secret = ref("");
const value = ref("");
const stale = computed(() => (data.value?.scripts ?? []).filter((one) => one.stale_in.length));

function edit(one: ScriptView | null) {
  [name.value, interpreter.value, note.value, text.value, revision.value] = one
    ? [one.name, one.interpreter, one.note, one.text, one.revision]
    : ["", "sh", "", "#!/bin/sh\nset -eu\n", 0];
  problem.value = null;
  editing.value = one?.name ?? "";
  open.value = true;
}
async function act(what: () => Promise<unknown>, done: string): Promise<boolean> {
  problem.value = null;
  try {
    await what();
    said.value = done;
    await client.invalidateQueries();
    return true;
  } catch (caught) {
    problem.value = caught;
    return false;
  }
}
const form = computed({
  get: () => ({ name: name.value, interpreter: interpreter.value, note: note.value, text: text.value }),
  set: (now) => ([name.value, interpreter.value, note.value, text.value] = [now.name, now.interpreter, now.note, now.text]),
});
const editing = ref("");
const { recovered, forget: forgetDraft, discard } = useFormDraft(() => `script.${editing.value}`, form, open);
async function save() {
  const body = { interpreter: interpreter.value.trim(), text: text.value, note: note.value.trim(), based_on: revision.value };
  const path = { name: name.value.trim() };
  if (await act(() => take(api.PUT("/api/v1/scripts/{name}", { params: { path }, body })), `${path.name} is kept.`)) {
    forgetDraft();
    open.value = false;
  }
}
async function store() {
  const path = { name: secret.value.trim() };
  if (await act(() => take(api.PUT("/api/v1/secrets/{name}", { params: { path }, body: { value: value.value } })), `${path.name} is stored; it is never shown.`)) {
    secret.value = "";
    value.value = "";
  }
}
const remove = (one: string) =>
  act(async () => {
    await take(api.DELETE("/api/v1/scripts/{name}", { params: { path: { name: one } } }));
    await offerUndo("script", one, `${one} is out of the library.`);
  }, `${one} is out of the library.`);
const forget = (one: string) => act(() => take(api.DELETE("/api/v1/secrets/{name}", { params: { path: { name: one } } })), `${one} is forgotten.`);
</script>

<template>
  <div class="page">
    <h1 class="sentence">
      <template v-if="!data">Scripts that plans run.</template>
      <template v-else-if="!data.scripts.length">The library is empty. Scripts that plans run at a site or in a guest are kept here.</template>
      <template v-else-if="stale.length">{{ list(stale.map((one) => one.name)) }} changed since {{ list([...new Set(stale.flatMap((one) => one.stale_in))]) }} took {{ stale.length === 1 ? "it" : "them" }} in: those plans are blocked until somebody has looked.</template>
      <template v-else>{{ count(data.scripts.length, "script") }} for plans to run, each with the text that the plans looked at.</template>
    </h1>
    <p class="under">{{ said || "A plan keeps the hash of the text that was looked at; a run keeps the text that it ran." }}</p>
    <ProblemNote v-if="error && !data" :error="error" />
    <ProblemNote v-if="problem && !open" :error="problem" />

    <PageSkeleton v-if="!data && !error" :heading="0" :blocks="[420]" />
    <template v-else>
      <div v-if="data?.scripts.length" class="scroll">
        <table class="lines">
          <thead><tr><th>Script</th><th>What it does</th><th>Run by plans</th><th>Saved</th><th><span class="out-of-sight">Do</span></th></tr></thead>
          <tbody>
            <tr v-for="one in data.scripts" :key="one.name" :data-script="one.name">
              <td><button class="link mono" @click="edit(one)">{{ one.name }}</button></td>
              <td>{{ one.note }} <span class="quiet">({{ one.interpreter }})</span></td>
              <td>
                <template v-for="(plan, index) in one.used_by" :key="plan"><template v-if="index">, </template><RouterLink :to="`/plans/${plan}`">{{ plan }}</RouterLink><span v-if="one.stale_in.includes(plan)" class="bad"> ▲ has another text</span></template>
                <span v-if="!one.used_by.length" class="quiet">none</span>
              </td>
              <td class="quiet">{{ ago(one.saved_at) }} by {{ one.author }}, revision {{ one.revision }}</td>
              <td>
                <button class="link" :aria-label="`Take ${one.name} out`" @click="remove(one.name)">✕</button>
              </td>
            </tr>
          </tbody>
        </table>
      </div>
      <p class="after"><el-button v-may="'change-scripts'" class="btn" @click="edit(null)">New script …</el-button></p>

      <h2>Secrets</h2>
      <p class="quiet">Given to scripts by their names, at the moment in which they are sent. They are encrypted, can be written and forgotten, and are never shown or logged.</p>
      <ul class="secrets">
        <li v-for="one in data?.secrets ?? []" :key="one.name" :data-secret="one.name">
          <b class="mono">{{ one.name }}</b> <span class="quiet">stored {{ ago(one.saved_at) }} by {{ one.author }}<template v-if="one.used_by.length">, used by {{ list(one.used_by) }}</template></span>
          <el-popconfirm :title="`Forget ${one.name}?`" confirm-button-text="Forget it" cancel-button-text="No" width="220" @confirm="forget(one.name)">
            <template #reference><button class="link" :aria-label="`Forget ${one.name}`">✕</button></template>
          </el-popconfirm>
        </li>
      </ul>
      <form class="form secret" @submit.prevent="store">
        <el-form-item label="Name"><el-input v-model="secret" class="mono" required maxlength="60" placeholder="feed-token" /></el-form-item>
        <el-form-item label="Value"><el-input v-model="value" type="password" required maxlength="4096" autocomplete="off" /></el-form-item>
        <el-button v-may="'change-scripts'" class="btn" :disabled="!secret.trim() || !value" native-type="submit">Store it</el-button>
      </form>
    </template>

    <el-dialog v-model="open" :title="revision ? `${name}, revision ${revision}` : 'A new script'" width="min(720px, 94vw)">
      <form class="form" @submit.prevent="save">
        <RecoveredNote :recovered="recovered" @discard="discard" />
        <ProblemNote v-if="problem" :error="problem" />
        <div class="two">
          <el-form-item label="Name"><el-input v-model="name" class="mono" :disabled="!!revision" required maxlength="59" placeholder="drain-broker" /></el-form-item>
          <el-form-item label="Run with"><el-input v-model="interpreter" class="mono" required maxlength="20" /></el-form-item>
        </div>
        <el-form-item label="What it does"><el-input v-model="note" maxlength="400" /></el-form-item>
        <el-form-item label="Text"><el-input v-model="text" type="textarea" :rows="16" class="mono" spellcheck="false" required /></el-form-item>
      </form>
      <template #footer>
        <el-button class="btn" @click="open = false">Cancel</el-button>
        <el-button v-may="'change-scripts'" class="btn main" :disabled="!name.trim() || !text.trim()" @click="save">Keep it</el-button>
      </template>
    </el-dialog>
  </div>
</template>

<style scoped>
.lines {
  margin-top: var(--gap-3);
}
.after {
  margin: var(--gap-3) 0 var(--gap-4);
}
.secrets li {
  padding: 4px 0;
  border-bottom: 1px solid var(--rule-faint);
  display: flex;
  gap: var(--gap-3);
}
.secret {
  display: flex;
  gap: var(--gap-3);
  align-items: flex-end;
  margin-top: var(--gap-3);
  max-width: 640px;
}
.secret label {
  margin: 0;
}
</style>
