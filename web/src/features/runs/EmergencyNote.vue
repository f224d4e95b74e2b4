<script setup lang="ts">
// A run that was started without the approvals that it needs, and its review.
import { ref } from "vue";
import { api, take } from "@/api/client";
import { useSession } from "@/api/queries";
import type { RunStatus } from "@/api/types";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAct } from "@/ui/act";

const props = defineProps<{ status: RunStatus }>();
const emit = defineEmits<{ reviewed: [] }>();
const { data: session } = useSession();
const text = ref("");
const { problem, busy, act } = useAct(() => emit("reviewed"));
const review = () => act(() => take(api.POST("/api/v1/runs/{id}/review", { params: { path: { id: props.status.id } }, body: { text: text.value } })));
</script>

<template>
  <section class="emergency" aria-label="Emergency">
    <p><b>‼ Started as an emergency</b>, without the approvals that it needs: {{ status.emergency }}</p>
    <p v-if="status.reviewed_by" class="quiet">Reviewed by {{ status.reviewed_by }}: {{ status.review }}</p>
    <p v-else-if="session?.name === status.started_by" class="quiet">It asks to be reviewed by somebody else.</p>
    <form v-else @submit.prevent="review">
      <el-form-item label="What is to be learned from it"><el-input v-model="text" type="textarea" :rows="2" maxlength="2000" /></el-form-item>
      <el-button v-may="'approve'" class="btn" :disabled="busy || !text.trim()" native-type="submit">It is reviewed</el-button>
      <ProblemNote v-if="problem" :error="problem" />
    </form>
  </section>
</template>

<style scoped>
.emergency {
  border-left: 6px double var(--disaster);
  background: var(--disaster-soft);
  padding: 6px 12px;
  margin: 8px 0;
}
</style>
