<script setup lang="ts">
// What was refused for want of an approval is asked for, where it was refused.
import { useQueryClient } from "@tanstack/vue-query";
import { ref } from "vue";
import { api, type Deed, sentenceOf, take } from "@/api/client";

const props = defineProps<{ deed: Deed }>();
const client = useQueryClient();
const reason = ref("");
const asked = ref(0);
const problem = ref("");
const busy = ref(false);
async function ask() {
  busy.value = true;
  problem.value = "";
  try {
    asked.value = (await take(api.POST("/api/v1/approvals/deeds", { body: { ...props.deed, reason: reason.value } }))).id;
    await client.invalidateQueries({ queryKey: ["approvals"] });
  } catch (error) {
    problem.value = sentenceOf(error);
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <p v-if="asked">Asked. <RouterLink :to="`/approvals/${asked}`">See how it stands</RouterLink>: when it is approved, you do it there. Nothing was changed yet.</p>
  <div v-else class="ask">
    <el-input v-model="reason" maxlength="500" placeholder="Why it is wanted" aria-label="Why it is wanted" @keydown.enter.prevent="ask" />
    <el-button class="btn" :disabled="busy" @click="ask">Ask for approval</el-button>
    <p v-if="problem" class="bad">{{ problem }}</p>
  </div>
</template>

<style scoped>
.ask {
  display: flex;
  flex-wrap: wrap;
  gap: var(--gap-2);
  margin-top: var(--gap-2);
}
.ask .el-input {
  max-width: 360px;
}
</style>
