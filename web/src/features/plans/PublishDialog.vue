<script setup lang="ts">
import { ref } from "vue";

const open = defineModel<boolean>({ required: true });
defineProps<{ version: number; changes: string[]; saving: boolean }>();
const emit = defineEmits<{ save: [summary: string] }>();
const summary = ref("");
function save() {
  open.value = false;
  emit("save", summary.value.trim());
  summary.value = "";
}
</script>

<template>
  <el-dialog v-model="open" :title="`Save version ${version}`" width="min(520px, 94vw)">
    <ul class="changes"><li v-for="one in changes" :key="one">{{ one }}</li></ul>
    <el-form-item class="form" label="Why, for those who read it later"><el-input v-model="summary" class="entry" maxlength="400" placeholder="the changes themselves, if you say nothing" @keydown.enter="save" /></el-form-item>
    <template #footer>
      <el-button class="btn" @click="open = false">Not yet</el-button>
      <el-button v-may="'change-plans'" class="btn main" :disabled="saving" @click="save">Save it</el-button>
    </template>
  </el-dialog>
</template>

<style scoped>
.changes {
  max-height: 220px;
  overflow: auto;
  margin-bottom: var(--gap-3);
}
</style>
