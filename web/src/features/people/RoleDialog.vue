<script setup lang="ts">
// A role of the organisation's own: its name, and what whoever has it may.
import { onMounted, ref } from "vue";
import { api, take } from "@/api/client";
import type { RoleView } from "@/api/types";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAct } from "@/ui/act";

const open = defineModel<boolean>({ required: true });
const props = defineProps<{
  /** Nothing: a new one is made. */
  role: RoleView | null;
  /** All permissions in words, by code. */
  permissions: Record<string, string>;
}>();
/** Whoever has a role sees; that is no choice. */
const ALWAYS = "see";
const name = ref("");
const words = ref("");
const chosen = ref<string[]>([]);
const { problem, busy, act } = useAct(() => (open.value = false));

onMounted(() => {
  if (props.role) [name.value, words.value, chosen.value] = [props.role.name, props.role.words, [...props.role.holds]];
});
const save = () =>
  act(async () => {
    const body = { name: name.value, words: words.value, permissions: chosen.value };
    if (props.role) await take(api.PUT("/api/v1/roles/{code}/definition", { params: { path: { code: props.role.code } }, body }));
    else await take(api.POST("/api/v1/roles", { body }));
  });
const remove = () => act(() => take(api.DELETE("/api/v1/roles/{code}", { params: { path: { code: props.role?.code ?? "" } } })));
</script>

<template>
  <el-dialog v-model="open" :title="role ? role.name : 'New role'" width="min(760px, 94vw)">
    <form id="role" class="form" @submit.prevent="save">
      <el-form-item label="Name"><el-input v-model="name" required maxlength="40" placeholder="Night operator" /></el-form-item>
      <el-form-item label="What it is for"><el-input v-model="words" maxlength="200" /></el-form-item>
      <fieldset class="permissions">
        <legend>Whoever has it may</legend>
        <p v-for="(said, code) in permissions" :key="code">
          <el-checkbox :model-value="code === ALWAYS || chosen.includes(code)" :disabled="code === ALWAYS" @change="chosen = $event ? [...chosen, code] : chosen.filter((one) => one !== code)">{{ said }}</el-checkbox>
        </p>
      </fieldset>
    </form>
    <ProblemNote v-if="problem" :error="problem" />
    <template #footer>
      <el-popconfirm v-if="role" :title="`Remove the role ${role.name}?`" confirm-button-text="Remove it" cancel-button-text="No" width="240" @confirm="remove">
        <template #reference><el-button class="btn danger" :disabled="busy">Remove …</el-button></template>
      </el-popconfirm>
      <el-button class="btn" @click="open = false">Cancel</el-button>
      <el-button class="btn main" :disabled="busy" native-type="submit" form="role">{{ role ? "Save" : "Make it" }}</el-button>
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
.permissions {
  columns: 280px 2;
}
.permissions p {
  break-inside: avoid;
}
.permissions .el-checkbox {
  height: auto;
  white-space: normal;
  align-items: flex-start;
}
</style>
