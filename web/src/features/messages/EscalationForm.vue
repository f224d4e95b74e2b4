<script setup lang="ts">
// Who is told in turn when nobody looks at what a run needs.
import { computed, ref, watch } from "vue";
import { api, take } from "@/api/client";
import type { EscalationStep } from "@/api/types";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAct } from "@/ui/act";
import { vMay } from "@/ui/may";
import { useReceivers } from "@/ui/receivers";

const MOST = 5;
const LATER_MIN = 15;
const props = defineProps<{ steps: EscalationStep[] }>();
const copied = () => props.steps.map((step) => ({ after_minutes: step.after_minutes, who: [...step.who] }));
const rows = ref(copied());
const choices = useReceivers();
const changed = computed(() => JSON.stringify(rows.value) !== JSON.stringify(copied()));
watch(
  () => JSON.stringify(props.steps),
  () => (rows.value = copied()),
);
const said = ref("");
const { problem, busy, act } = useAct();
const add = () => rows.value.push({ after_minutes: (rows.value.at(-1)?.after_minutes ?? 0) + LATER_MIN, who: [] });
async function save() {
  said.value = "";
  await act(async () => {
    await take(api.PUT("/api/v1/messages/escalation", { body: { steps: rows.value } }));
    said.value = "Saved.";
  });
}
</script>

<template>
  <section aria-label="When nobody looks">
    <h2>When nobody looks</h2>
    <p class="quiet">
      When a run needs somebody, and nobody who may answer has opened its page, these are told by mail in turn, whatever they chose and at any hour.
    </p>
    <form class="form" @submit.prevent="save">
      <div v-for="(row, i) in rows" :key="i" class="step">
        <span>After</span>
        <el-input-number v-model="row.after_minutes" :min="1" :max="1440" :precision="0" :aria-label="`Minutes of step ${i + 1}`" />
        <span>min tell</span>
        <el-select v-model="row.who" multiple filterable class="who" placeholder="choose" :aria-label="`Who is told in step ${i + 1}`">
          <el-option v-for="one in choices" :key="one.value" :value="one.value" :label="one.label" />
        </el-select>
        <button type="button" class="link" :aria-label="`Remove step ${i + 1}`" @click="rows.splice(i, 1)">Remove</button>
      </div>
      <p class="buttons">
        <el-button v-if="rows.length < MOST" v-may="'change-settings'" class="btn" @click="add">Add a step</el-button>
        <el-button v-if="changed" v-may="'change-settings'" class="btn main" :disabled="busy" native-type="submit">Save the steps</el-button>
        <span role="status">{{ changed ? "" : said }}</span>
      </p>
      <ProblemNote v-if="problem" :error="problem" />
    </form>
  </section>
</template>

<style scoped>
h2 {
  margin: var(--gap-4) 0 var(--gap-1);
}
.step {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: var(--gap-2);
  margin: var(--gap-2) 0;
}
.who {
  width: min(420px, 100%);
}
</style>
