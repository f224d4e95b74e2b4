<script setup lang="ts">
// Who waits for a second signature, and what needs one.
import { computed } from "vue";
import { useApprovals } from "@/api/queries";
import ApprovalRules from "@/features/approvals/ApprovalRules.vue";
import { kindNames, stateOf } from "@/features/approvals/words";
import PageSkeleton from "@/ui/PageSkeleton.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { ago, count } from "@/ui/format";

const { data, error } = useApprovals();
const open = computed(() => (data.value ?? []).filter((one) => one.state === "open"));
const mine = computed(() => open.value.filter((one) => !one.why_not));
const sentence = computed(() => {
  if (!open.value.length) return "Nothing waits for an approval.";
  const waits = `${count(open.value.length, "request waits", "requests wait")} for an approval`;
  return mine.value.length ? `${waits}; ${mine.value.length === open.value.length ? "you may give it" : `you may give ${mine.value.length}`}.` : `${waits} of somebody else.`;
});
</script>

<template>
  <div class="page">
    <h1 class="sentence">{{ data ? sentence : "Approvals" }}</h1>
    <ProblemNote v-if="error" :error="error" />
    <PageSkeleton v-if="!data && !error" :heading="0" :blocks="[160, 200]" />
    <div v-if="data?.length" class="scroll" tabindex="0">
      <table class="lines">
        <thead><tr><th>What</th><th>Asked by</th><th>Approved</th><th>State</th></tr></thead>
        <tbody>
          <tr v-for="one in data" :key="one.id" :data-approval="one.id">
            <td><RouterLink :to="`/approvals/${one.id}`">{{ one.deed ? one.plan_name : `${one.plan_name}: ${kindNames[one.kind]}` }}</RouterLink></td>
            <td>{{ one.asked_by }} <span class="quiet">{{ ago(one.asked_at) }}</span></td>
            <td>{{ one.answers.filter((said) => said.granted).length }} of {{ one.needed }}</td>
            <td :class="{ bad: one.state === 'refused' }">{{ stateOf(one) }} <RouterLink v-if="one.run" :to="`/runs/${one.run}`">run {{ one.run }}</RouterLink></td>
          </tr>
        </tbody>
      </table>
    </div>
    <ApprovalRules />
  </div>
</template>
