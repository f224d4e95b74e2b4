<script setup lang="ts">
import { api, take } from "@/api/client";
import type { Crosswalk, Proposal } from "@/api/types";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useChoice } from "@/ui/choose";
import { count } from "@/ui/format";

const props = defineProps<{ crosswalk: Crosswalk }>();
const open = defineModel<boolean>({ required: true });
const emit = defineEmits<{ accept: [proposals: Proposal[]] }>();
// What is nearly certain is chosen already; the rest wants a look.
const { items: proposals, chosen, problem, toggle, all, toggleAll, picked } = useChoice(
  open,
  async () => (await take(api.POST("/api/v1/crosswalks/proposals", { body: props.crosswalk }))).proposals,
  (one) => one.confidence >= 0.75,
);
function accept() {
  emit("accept", picked());
  open.value = false;
}
</script>

<template>
  <el-dialog v-model="open" title="Rows that could be added" width="min(860px, 94vw)">
    <ProblemNote v-if="problem" :error="problem" />
    <p v-else-if="!proposals" class="quiet">Comparing both sites …</p>
    <p v-else-if="!proposals.length">Nothing is proposed: all that is alike has a row already. Join what is left by hand.</p>
    <div v-else class="scroll">
      <table class="lines">
        <thead>
          <tr>
            <th><el-checkbox :model-value="all" @change="toggleAll"><span class="out-of-sight">All proposals</span></el-checkbox></th>
            <th>What</th>
            <th>From</th>
            <th>To</th>
            <th>Confidence</th>
            <th>Reason</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(one, index) in proposals" :key="one.kind + one.source" :data-proposal="one.source">
            <td><el-checkbox :model-value="chosen.has(index)" @change="toggle(index)"><span class="out-of-sight">{{ `${one.source} to ${one.target}` }}</span></el-checkbox></td>
            <td>{{ one.kind }}</td>
            <td class="mono">{{ one.source }}</td>
            <td class="mono">{{ one.target }}</td>
            <td class="mono">{{ Math.round(one.confidence * 100) }} %</td>
            <td>{{ one.reason }}<span v-if="one.rule?.live.dns.length" class="quiet">; name servers {{ one.rule.live.dns.join(", ") }}</span></td>
          </tr>
        </tbody>
      </table>
    </div>
    <template #footer>
      <el-button class="btn" @click="open = false">None of them</el-button>
      <el-button class="btn main" :disabled="!chosen.size" @click="accept">Take {{ count(chosen.size, "row") }} into the draft</el-button>
    </template>
  </el-dialog>
</template>

<style scoped>
.scroll {
  max-height: 56vh;
  overflow-y: auto;
}
</style>
