<script setup lang="ts">
// What a plan lacks, from what uses what: accepted piece by piece.
import { api, take } from "@/api/client";
import type { Piece, Plan } from "@/api/types";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useChoice } from "@/ui/choose";
import { count, roman } from "@/ui/format";

const props = defineProps<{ plan: Plan }>();
const open = defineModel<boolean>({ required: true });
const emit = defineEmits<{ accept: [pieces: Piece[]] }>();
const { items: pieces, chosen, problem, toggle, picked } = useChoice(
  open,
  async () => (await take(api.POST("/api/v1/plan-suggestions", { body: { plan: props.plan } }))).pieces,
  () => true,
);
function accept() {
  emit("accept", picked());
  open.value = false;
}
</script>

<template>
  <el-dialog v-model="open" title="What the plan lacks" width="min(680px, 94vw)">
    <ProblemNote v-if="problem" :error="problem" />
    <p v-else-if="!pieces" class="quiet">Looking at what uses what …</p>
    <p v-else-if="!pieces.length">Nothing: nobody comes up before what it uses, or beside it without waiting.</p>
    <table v-else class="lines">
      <tr v-for="(one, index) in pieces" :key="one.kind + one.workload + one.on" :data-piece="one.workload">
        <td><el-checkbox :model-value="chosen.has(index)" @change="toggle(index)"><span class="out-of-sight">{{ `${one.workload}: ${one.reason}` }}</span></el-checkbox></td>
        <td>
          <b>{{ one.workload }}</b> {{ one.kind === "wave" ? `moves to wave ${roman(one.wave + 1)}` : `waits for ${one.on}` }}
        </td>
        <td class="quiet">{{ one.reason }}</td>
      </tr>
    </table>
    <template #footer>
      <el-button class="btn" @click="open = false">Leave it as it is</el-button>
      <el-button class="btn main" :disabled="!pieces?.length || !chosen.size" @click="accept">Take {{ count(chosen.size, "piece") }} into the draft</el-button>
    </template>
  </el-dialog>
</template>
