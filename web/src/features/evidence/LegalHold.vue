<script setup lang="ts">
// How long the log of a run is kept, and what keeps it longer.
import { ref } from "vue";
import { api, take } from "@/api/client";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAct } from "@/ui/act";
import { exactMoment } from "@/ui/format";

const props = defineProps<{ run: number; reason: string; leavesAt: string | null }>();
const { problem, act } = useAct();
const holding = ref(false);
const why = ref("");
async function hold(text: string) {
  await act(() => take(api.PUT("/api/v1/runs/{id}/legal-hold", { params: { path: { id: props.run } }, body: { reason: text } })));
  if (!problem.value) holding.value = false;
}
</script>

<template>
  <section>
    <h2>Kept</h2>
    <p v-if="reason">⚖ Held: {{ reason }} <button v-may="'hold-evidence'" class="link" @click="hold('')">Release the legal hold</button></p>
    <template v-else>
      <p class="quiet">{{ leavesAt ? `Until ${exactMoment(leavesAt)}, then its log is deleted; its line and its seal stay.` : "For ever." }}</p>
      <button v-if="!holding" v-may="'hold-evidence'" class="link" @click="holding = true">Put a legal hold on it …</button>
      <form v-else class="form" @submit.prevent="hold(why)">
        <el-form-item label="Why it must be kept"><el-input v-model="why" maxlength="400" required /></el-form-item>
        <el-button class="btn" :disabled="!why.trim()" native-type="submit">Hold it</el-button>
      </form>
    </template>
    <ProblemNote v-if="problem" :error="problem" />
  </section>
</template>

<style scoped>
h2 {
  margin: var(--gap-4) 0 var(--gap-1);
}
</style>
