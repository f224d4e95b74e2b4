<script setup lang="ts">
import type { OneWay } from "@/api/types";
import { count } from "@/ui/format";

/** Rows that could not be reversed; null is closed. */
const lost = defineModel<OneWay[] | null>({ required: true });
defineProps<{ to: string }>();
</script>

<template>
  <el-dialog :model-value="!!lost" title="The reverse crosswalk is made" width="min(620px, 94vw)" @close="lost = null">
    <p v-if="!lost?.length">Every row could be reversed.</p>
    <template v-else>
      <p>{{ count(lost.length, "row") }} could not be reversed, and {{ lost.length === 1 ? "is" : "are" }} not in it:</p>
      <ul class="lost">
        <li v-for="one in lost" :key="one.row"><b>{{ one.row }}</b>: {{ one.why }}.</li>
      </ul>
    </template>
    <template #footer>
      <el-button class="btn" @click="lost = null">Stay here</el-button>
      <RouterLink class="btn main" :to="to">See it</RouterLink>
    </template>
  </el-dialog>
</template>

<style scoped>
.lost li {
  padding: 4px 0;
  border-bottom: 1px solid var(--rule-faint);
}
</style>
