<script setup lang="ts">
import { computed, watch } from "vue";
import { useRoute } from "vue-router";
import { useApprovals, usePlans } from "@/api/queries";
import type { SiteLine } from "@/api/types";
import { opened, shortList } from "@/app/planShelf";

defineProps<{ line: SiteLine | undefined }>();
const route = useRoute();
const { data } = usePlans();
const { data: approvals } = useApprovals();
const waiting = computed(() => (approvals.value ?? []).filter((one) => one.state === "open").length);
const code = computed(() => (typeof route.params.code === "string" && route.path.startsWith("/plans/") ? route.params.code : ""));
watch(code, (now) => now && opened(now), { immediate: true });
const plans = computed(() => shortList(data.value?.plans ?? [], code.value));
const more = computed(() => (data.value?.plans.length ?? 0) - plans.value.length);
const below = (path: string) => route.path === path || route.path.startsWith(`${path}/`);
</script>

<template>
  <nav aria-label="Pages">
    <RouterLink to="/" :class="{ on: route.name === 'readiness' }">Readiness</RouterLink>
    <RouterLink to="/estate" :class="{ on: below('/estate') }">Estate</RouterLink>
    <RouterLink to="/protection" :class="{ on: below('/protection') }">Protection</RouterLink>
    <RouterLink to="/crosswalks" :class="{ on: below('/crosswalks') }">Crosswalks</RouterLink>
    <RouterLink to="/plans" :class="{ on: route.name === 'plans' }">Plans <span v-if="more > 0" class="quiet">{{ more }} more</span></RouterLink>
    <RouterLink v-for="plan in plans" :key="plan.code" :to="`/plans/${plan.code}`" class="plan" :class="{ on: code === plan.code }">{{ plan.name }}</RouterLink>
    <RouterLink to="/plans/new" class="plan" :class="{ on: route.name === 'new-plan' }">+ New plan</RouterLink>
    <RouterLink to="/scripts" :class="{ on: below('/scripts') }">Scripts</RouterLink>
    <RouterLink to="/runs" :class="{ on: below('/runs') }">Runs <span v-if="line?.runs.length" class="number">{{ line.runs.length }}</span></RouterLink>
    <RouterLink to="/approvals" :class="{ on: below('/approvals') }">Approvals <span v-if="waiting" class="number">{{ waiting }}</span></RouterLink>
    <RouterLink to="/evidence" :class="{ on: below('/evidence') }">Evidence</RouterLink>
    <RouterLink to="/settings" :class="{ on: below('/settings') }">Settings</RouterLink>
    <RouterLink v-if="line?.stations.some((one) => one.practice)" to="/lab" :class="{ on: route.name === 'lab' }">Practice lab</RouterLink>
  </nav>
</template>

<style scoped>
nav {
  width: 172px;
  flex: none;
  border-right: 1px solid var(--rule);
  padding: 14px 0;
}
a {
  display: flex;
  justify-content: space-between;
  padding: 7px 14px 7px 18px;
  border-left: 3px solid transparent;
  text-decoration: none;
}
a:hover {
  background: var(--rule-faint);
}
a.on {
  background: var(--brass-soft);
  border-left-color: var(--brass);
  font-weight: 600;
}
.plan {
  padding: 5px 14px 5px 30px;
  line-height: 1.25;
  overflow-wrap: anywhere;
}
.number {
  margin-left: 8px;
  color: var(--test);
  font-weight: 700;
}
@media (max-width: 760px) {
  nav {
    width: 100%;
    display: flex;
    overflow-x: auto;
    padding: 0;
    border-right: 0;
    border-bottom: 1px solid var(--rule);
  }
  a {
    padding: 7px 10px;
    white-space: nowrap;
    border-left: 0;
    border-bottom: 3px solid transparent;
  }
  a.on {
    border-bottom-color: var(--brass);
  }
  .plan {
    display: none;
  }
}
</style>
