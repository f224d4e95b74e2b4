<script setup lang="ts">
import { ref } from "vue";
import { count } from "@/ui/format";

const open = defineModel<boolean>({ required: true });
defineProps<{ isTest: boolean; does: string; underWay: number }>();
const emit = defineEmits<{ abort: [reason: string] }>();
const reason = ref("");
</script>

<template>
  <el-dialog v-model="open" title="Abort the run?" width="min(460px, 94vw)">
    <p>
      Nothing new is started. {{ count(underWay, "step is", "steps are") }} under way and will be let finish. From here:
      <b>{{ does }}</b> You can start again afterwards.
    </p>
    <p><el-input v-model="reason" placeholder="Reason (kept in the log)" aria-label="Reason" maxlength="300" /></p>
    <template #footer>
      <el-button class="btn" @click="open = false">Let it run</el-button>
      <el-button class="btn danger" @click="emit('abort', reason)">{{ isTest ? "Abort and clean up" : "Abort and take it back" }}</el-button>
    </template>
  </el-dialog>
</template>
