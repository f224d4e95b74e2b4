<script setup lang="ts">
// When was what proved: a year per plan, the services in it, and what no plan holds.
import { useQuery } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { api, take } from "@/api/client";
import type { PlanProof } from "@/api/types";
import EvidenceTabs from "@/features/evidence/EvidenceTabs.vue";
import YearStrip from "@/features/evidence/YearStrip.vue";
import FileButton from "@/ui/FileButton.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { ago, count, list, moment } from "@/ui/format";

const route = useRoute();
const router = useRouter();
const year = computed(() => Number(route.query.year ?? 0));
const { data, error } = useQuery({
  queryKey: ["proof", year],
  queryFn: () => take(api.GET("/api/v1/evidence/proof", { params: { query: year.value ? { year: year.value } : {} } })),
  placeholderData: (before) => before,
});
const thisYear = new Date().getFullYear();
const years = computed(() => Array.from({ length: Math.max(thisYear - (data.value?.first_year ?? thisYear) + 1, 1) }, (_, i) => thisYear - i));
const open = ref<string[]>([]);
const toggle = (code: string) => (open.value = open.value.includes(code) ? open.value.filter((one) => one !== code) : [...open.value, code]);
const unproved = (plan: PlanProof) => plan.services.filter((service) => service.run === null).length;
const months = "Jan Feb Mar Apr May Jun Jul Aug Sep Oct Nov Dec".split(" ");
</script>

<template>
  <div class="page">
    <ProblemNote v-if="error && !data" :error="error" />
    <template v-if="data">
      <h1 class="sentence">{{ data.sentence }}</h1>
      <p class="under">
        A test that passed, and a failover that came up, prove a plan for as long as its drill interval says.
        <FileButton path="/api/v1/evidence/archive.zip" may="take-evidence" link>Everything for an auditor, as one ZIP</FileButton>
      </p>
      <EvidenceTabs />
      <p class="years">
        <button v-for="one in years" :key="one" class="link" :class="{ on: one === data.year }" @click="router.replace({ query: { year: String(one) } })">{{ one }}</button>
      </p>
      <div class="scroll">
        <table class="lines">
          <thead>
            <tr>
              <th>Plan</th>
              <th class="months"><span v-for="month in months" :key="month">{{ month }}</span></th>
              <th>Last proved</th>
              <th>Services that answered</th>
            </tr>
          </thead>
          <tbody>
            <template v-for="plan in data.plans" :key="plan.plan">
              <tr :data-plan="plan.plan">
                <td>
                  <RouterLink :to="`/evidence/plans/${plan.plan}`">{{ plan.name }}</RouterLink>
                  <small v-if="plan.owner" class="quiet">{{ plan.owner }}</small>
                </td>
                <td><YearStrip :plan="plan" :year="data.year" :holds-days="plan.holds_days" /></td>
                <td :class="{ bad: plan.overdue }">
                  <template v-if="plan.last_at">{{ plan.overdue ? "✕" : "✓" }} {{ ago(plan.last_at) }}<small class="quiet">{{ plan.overdue ? "was due" : "holds until" }} {{ moment(plan.due_at ?? "") }}</small></template>
                  <template v-else>✕ never <small><RouterLink :to="`/plans/${plan.plan}/start`">Start a test</RouterLink></small></template>
                </td>
                <td>
                  <button class="link" :aria-expanded="open.includes(plan.plan)" @click="toggle(plan.plan)">
                    {{ plan.services.length - unproved(plan) }} of {{ plan.services.length }} {{ open.includes(plan.plan) ? "▾" : "▸" }}
                  </button>
                </td>
              </tr>
              <tr v-if="open.includes(plan.plan)">
                <td colspan="4">
                  <ul class="services">
                    <li v-for="one in plan.services" :key="one.workload + one.service" :class="{ bad: one.run === null }">
                      {{ one.run === null ? "✕" : "✓" }} {{ one.workload }} <span class="quiet">{{ one.service }}</span>
                      <RouterLink v-if="one.run !== null" :to="`/runs/${one.run}/evidence`">{{ ago(one.at ?? "") }}, run {{ one.run }}</RouterLink>
                      <template v-else>never answered in a run</template>
                    </li>
                  </ul>
                </td>
              </tr>
            </template>
          </tbody>
        </table>
      </div>
      <p v-if="data.unplanned.length" class="unplanned">
        <b>Protected, but in no plan, so nothing proves {{ data.unplanned.length === 1 ? "it" : "them" }}:</b>
        {{ list(data.unplanned.slice(0, 12)) }}{{ data.unplanned.length > 12 ? ` and ${count(data.unplanned.length - 12, "more", "more")}` : "" }}.
        <RouterLink to="/plans/new">Make a plan</RouterLink>
      </p>
    </template>
    <p v-else-if="!error" class="quiet">Looking through all runs …</p>
  </div>
</template>

<style scoped>
.years {
  display: flex;
  gap: var(--gap-3);
  margin: var(--gap-3) 0 0;
}
.years .on {
  font-weight: 700;
  color: var(--ink-1);
}
.scroll {
  overflow-x: auto;
}
.months {
  display: flex;
  width: 560px;
  padding-right: 0;
}
.months span {
  flex: 1;
  font-weight: 400;
}
small {
  display: block;
}
.services {
  columns: 2;
}
.unplanned {
  margin-top: var(--gap-4);
  border-left: 5px double var(--brass);
  padding-left: var(--gap-3);
}
</style>
