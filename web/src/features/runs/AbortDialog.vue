<script setup lang="ts">
import { ref } from "vue";
import { tellRun } from "@/features/runs/tellRun";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAct } from "@/ui/act";
import { count } from "@/ui/format";

const open = defineModel<boolean>({ required: true });
const props = defineProps<{ run: number; isTest: boolean; does: string; underWay: number }>();
const reason = ref("");
const { problem, busy, act } = useAct(() => (open.value = false));
const abort = () => act(() => tellRun(props.run, { kind: "abort", text: reason.value }));
</script>

<template>
  <el-dialog v-model="open" title="Abort the run?" width="min(460px, 94vw)">
    <p class="what">
      Nothing new is started. {{ count(underWay, "step is", "steps are") }} under way and will be let finish. From here:
      <b>{{ does }}</b> You can start again afterwards.
    </p>
    <p><el-input v-model="reason" placeholder="Reason (kept in the log)" aria-label="Reason" maxlength="300" /></p>
    <p v-if="problem"><ProblemNote :error="problem" /></p>
    <template #footer>
      <el-button class="btn" @click="open = false">Let it run</el-button>
      <el-button class="btn danger" :disabled="busy" @click="abort">{{ isTest ? "Abort and clean up" : "Abort and take it back" }}</el-button>
    </template>
  </el-dialog>
</template>

<style scoped>
/* What it would do grows and shrinks as the run goes on; the keys below stay where they are. */
.what {
  min-height: 6lh;
}
</style>
