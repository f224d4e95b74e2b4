<script setup lang="ts">
// A disaster run without the approvals that it needs: with a reason, everybody told, and a review afterwards.
import { computed, ref } from "vue";

const SHORTEST = 20;
const open = defineModel<boolean>({ required: true });
const confirm = defineModel<string>("confirm", { required: true });
const props = defineProps<{ code: string; busy: boolean }>();
const emit = defineEmits<{ start: [reason: string] }>();
const reason = ref("");
const ready = computed(() => reason.value.trim().length >= SHORTEST && confirm.value.trim() === props.code);
function start() {
  open.value = false;
  emit("start", reason.value.trim());
}
</script>

<template>
  <el-dialog v-model="open" title="Start it as an emergency?" width="min(520px, 94vw)" append-to-body>
    <p>It starts at once, without anybody's approval. Everybody is told; the run carries a mark in every list and report, and an approver is asked to review it afterwards.</p>
    <el-form-item label="Why nobody could be asked, in a sentence"><el-input v-model="reason" type="textarea" :rows="3" maxlength="500" /></el-form-item>
    <el-form-item :label="`Type ${code} to confirm`"><el-input v-model="confirm" class="mono" maxlength="12" /></el-form-item>
    <template #footer>
      <el-button class="btn" @click="open = false">Not now</el-button>
      <el-button class="btn danger" :disabled="!ready || busy" @click="start">Start the emergency run</el-button>
    </template>
  </el-dialog>
</template>
