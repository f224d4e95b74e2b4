<script setup lang="ts">
// What needs a second signature: kinds of run and other deeds, of every plan or of one.
import { useQuery } from "@tanstack/vue-query";
import { computed, ref, watch } from "vue";
import { api, take } from "@/api/client";
import { usePlans } from "@/api/queries";
import type { ApprovalRule } from "@/api/types";
import { deedNames, kindNames, ofAPlan } from "@/features/approvals/words";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAct } from "@/ui/act";

const { data, error } = useQuery({ queryKey: ["approval-rules"], queryFn: () => take(api.GET("/api/v1/approval-rules")), refetchOnWindowFocus: false });
const { data: plans } = usePlans();
const rules = ref<ApprovalRule[]>([]);
const same = (a: ApprovalRule[], b: ApprovalRule[]) => JSON.stringify(a) === JSON.stringify(b);
watch(data, (now, before) => now && (!before || same(rules.value, before.rules)) && (rules.value = now.rules.map((one) => ({ ...one }))), { immediate: true });
const changed = computed(() => !!data.value && !same(rules.value, data.value.rules));
const { problem, busy, act } = useAct();
const said = ref("");
const save = () =>
  act(async () => {
    rules.value = [...(await take(api.PUT("/api/v1/approval-rules", { body: { rules: rules.value.map((one) => ({ ...one, plan: ofAPlan(one.kind) ? one.plan : "" })) } }))).rules];
    said.value = "Saved. It counts from now on.";
  });
const add = () => rules.value.push({ plan: "", kind: "planned", approvals: 1, hours: 8 });
</script>

<template>
  <section aria-label="What needs an approval">
    <h2>What needs an approval</h2>
    <ProblemNote v-if="error" :error="error" />
    <el-skeleton v-if="!data && !error" :rows="3" />
    <template v-if="data">
      <p v-if="!rules.length" class="quiet">Nothing: whoever may do something does it alone.</p>
      <div v-else class="scroll" tabindex="0">
        <table class="lines">
          <thead><tr><th>What</th><th>Of</th><th>Approvals</th><th>Hold for, hours</th><th><span class="out-of-sight">What can be done</span></th></tr></thead>
          <tbody>
            <tr v-for="(rule, index) in rules" :key="index">
              <td><el-select v-model="rule.kind" filterable default-first-option :aria-label="`Kind of rule ${index + 1}`" class="kind"><el-option v-for="(name, kind) in { ...kindNames, ...deedNames }" :key="kind" :value="kind" :label="name" /></el-select></td>
              <td>
                <span v-if="!ofAPlan(rule.kind)" class="quiet">—</span>
                <el-select v-else v-model="rule.plan" filterable default-first-option :aria-label="`Plan of rule ${index + 1}`" class="plan">
                  <el-option value="" label="every plan" />
                  <el-option v-for="plan in plans?.plans ?? []" :key="plan.code" :value="plan.code" :label="plan.name" />
                </el-select>
              </td>
              <td><el-input-number v-model="rule.approvals" :min="0" :max="3" :precision="0" size="small" :aria-label="`Approvals of rule ${index + 1}`" /></td>
              <td><el-input-number v-model="rule.hours" :min="1" :max="168" :precision="0" size="small" :aria-label="`Hours of rule ${index + 1}`" /></td>
              <td><button v-may="'manage-people'" class="link" :aria-label="`Remove rule ${index + 1}`" @click="rules.splice(index, 1)">✕</button></td>
            </tr>
          </tbody>
        </table>
      </div>
      <p class="quiet">The rule of a plan comes before that of every plan; 0 approvals leaves a plan out.</p>
      <p class="buttons">
        <el-button v-may="'manage-people'" class="btn" @click="add">Add a rule</el-button>
        <el-button v-may="'manage-people'" class="btn main" :disabled="!changed || busy" @click="save">Save the rules</el-button>
        <span role="status">{{ changed ? "" : said }}</span>
      </p>
    </template>
    <ProblemNote v-if="problem" :error="problem" />
  </section>
</template>

<style scoped>
h2 {
  margin: var(--gap-4) 0 var(--gap-2);
}
.kind {
  width: 270px;
}
.plan {
  width: 220px;
}
</style>
