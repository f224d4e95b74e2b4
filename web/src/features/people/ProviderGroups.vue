<script setup lang="ts">
// Which roles the groups of the provider give.
import type { RoleView } from "@/api/types";
import ScopeChoice from "@/features/people/ScopeChoice.vue";
import type { GroupRoles } from "@/features/people/provider";

const groups = defineModel<GroupRoles[]>({ required: true });
const claim = defineModel<string>("claim", { required: true });
defineProps<{ roles: RoleView[] }>();
</script>

<template>
  <h2>Roles by group</h2>
  <p class="quiet">Taken over at every sign-in: who has left a group loses its roles then. Roles that are given here stay.</p>
  <el-form-item label="Where the provider names groups (claim)"><el-input v-model="claim" class="mono claim" maxlength="80" /></el-form-item>
  <div v-for="(one, index) in groups" :key="index" class="group">
    <el-input v-model="one.group" class="mono" required maxlength="200" placeholder="recovery-team" :aria-label="`Group ${index + 1}`" />
    <span>gives</span>
    <el-select v-model="one.roles" multiple placeholder="choose" class="roles" :aria-label="`Roles of group ${index + 1}`"><el-option v-for="role in roles" :key="role.code" :value="role.code" :label="role.name" /></el-select>
    <ScopeChoice v-model="one.scope" :role="`group ${index + 1}`" />
    <button type="button" class="link" :aria-label="`Remove group ${index + 1}`" @click="groups.splice(index, 1)">✕</button>
  </div>
  <p><el-button class="btn" @click="groups.push({ group: '', roles: [] })">Add a group</el-button></p>
</template>

<style scoped>
h2 {
  margin: var(--gap-4) 0 var(--gap-2);
}
.claim {
  max-width: 240px;
}
.group {
  display: flex;
  flex-wrap: wrap;
  gap: var(--gap-2);
  align-items: center;
  margin-bottom: var(--gap-2);
}
.group .el-input {
  width: 240px;
}
.roles {
  width: min(360px, 100%);
}
</style>
