<script setup lang="ts">
import { computed, nextTick, ref, useTemplateRef, watch } from "vue";
import { useRouter } from "vue-router";
import type { SiteLine } from "@/api/types";
import { switchTheme } from "@/app/theme";
import { useWorkloads } from "@/api/queries";

const props = defineProps<{ line: SiteLine | undefined }>();
const open = defineModel<boolean>({ required: true });
const emit = defineEmits<{ keys: []; signOut: [] }>();
const router = useRouter();
const words = ref("");
// Only words that cannot be mistaken for the filter language are looked for.
const looked = computed(() => (/^[\w.-]{2,}$/.test(words.value.trim()) ? `"${words.value.trim()}"` : ""));
const { data: workloads } = useWorkloads(looked, 8, computed(() => open.value && looked.value !== ""));
const at = ref(0);
const field = useTemplateRef<HTMLInputElement>("field");

interface Item {
  label: string;
  hint: string;
  run: () => void;
}

const go = (to: string) => () => void router.push(to);
const items = computed<Item[]>(() => {
  const plans = props.line?.plans ?? [];
  const runs = props.line?.runs ?? [];
  return [
    { label: "Readiness", hint: "page", run: go("/") },
    { label: "Estate", hint: "page", run: go("/estate") },
    { label: "Sites and networks", hint: "page", run: go("/estate/sites") },
    { label: "What uses what", hint: "page", run: go("/estate/uses") },
    { label: "Import a file", hint: "action", run: go("/estate/import") },
    { label: "Protection", hint: "page", run: go("/protection") },
    { label: "Protect workloads in a new group", hint: "action", run: go("/protection/new") },
    { label: "Crosswalks", hint: "page", run: go("/crosswalks") },
    ...(props.line?.flows ?? []).map((flow) => ({ label: `Where ${flow.source} lands at ${flow.target}`, hint: "crosswalk", run: go(`/crosswalks/${flow.source}/${flow.target}`) })),
    { label: "Make a new plan", hint: "action", run: go("/plans/new") },
    { label: "Scripts", hint: "page, with secrets", run: go("/scripts") },
    { label: "Runs", hint: "page", run: go("/runs") },
    ...runs.map((run) => ({ label: `Run ${run.id}: ${run.plan_name}`, hint: "run under way", run: go(`/runs/${run.id}`) })),
    ...plans.map((plan) => ({ label: plan.name, hint: `plan ${plan.code}`, run: go(`/plans/${plan.code}`) })),
    ...plans.map((plan) => ({ label: `Start a test of ${plan.name}`, hint: "action", run: go(`/plans/${plan.code}/start`) })),
    ...plans.map((plan) => ({ label: `Fail over ${plan.name}`, hint: "planned", run: go(`/plans/${plan.code}/start?kind=planned`) })),
    ...plans.map((plan) => ({ label: `${plan.name}: the site is lost`, hint: "disaster", run: go(`/plans/${plan.code}/start?kind=disaster`) })),
    { label: "Evidence: what is proved", hint: "page", run: go("/evidence") },
    { label: "Drill calendar", hint: "page", run: go("/evidence/calendar") },
    { label: "Check a file of evidence", hint: "action", run: go("/evidence/check") },
    { label: "Audit trail", hint: "page", run: go("/evidence/audit") },
    { label: "Settings: organisation, time zone, how reports look, how long runs are kept", hint: "page", run: go("/settings") },
    { label: "Retired things, and the way back", hint: "page", run: go("/settings/retired") },
    ...plans.map((plan) => ({ label: `${plan.name} over all its runs`, hint: "trend", run: go(`/evidence/plans/${plan.code}`) })),
    { label: "Practice lab", hint: "page", run: go("/lab") },
    { label: "Switch between day and night", hint: "action", run: switchTheme },
    { label: "Keys of this page", hint: "action", run: () => emit("keys") },
    { label: "Sign out", hint: "action", run: () => emit("signOut") },
    ...(looked.value ? (workloads.value ?? []) : []).flatMap((workload) => {
      const plan = plans.find((p) => p.code === planOf.value.get(workload.name));
      const found = [{ label: workload.name, hint: `workload at ${workload.site}`, run: go(`/estate?open=${workload.name}`) }];
      if (plan) found.unshift({ label: workload.name, hint: `workload in ${plan.name}`, run: go(`/plans/${plan.code}?select=${workload.name}`) });
      return found;
    }),
  ];
});
const planOf = computed(() => {
  const found = new Map<string, string>();
  for (const plan of props.line?.plans ?? []) for (const name of plan.workloads) if (!found.has(name)) found.set(name, plan.code);
  return found;
});
const found = computed(() => {
  const parts = words.value.toLowerCase().split(/\s+/).filter(Boolean);
  return items.value
    .filter((item) => parts.every((part) => `${item.label} ${item.hint}`.toLowerCase().includes(part)))
    .slice(0, 12);
});

watch(open, async (now) => {
  if (!now) return;
  words.value = "";
  at.value = 0;
  await nextTick();
  field.value?.focus();
});
watch(words, () => (at.value = 0));

function choose(item: Item | undefined) {
  if (!item) return;
  open.value = false;
  item.run();
}
function move(by: number) {
  at.value = (at.value + by + found.value.length) % Math.max(found.value.length, 1);
}
</script>

<template>
  <div v-if="open" class="veil" @click.self="open = false">
    <div class="palette" role="dialog" aria-label="Find or do anything">
      <input
        ref="field"
        v-model="words"
        placeholder="Find or do anything"
        role="combobox"
        aria-expanded="true"
        aria-controls="palette-list"
        :aria-activedescendant="`palette-${at}`"
        @keydown.down.prevent="move(1)"
        @keydown.up.prevent="move(-1)"
        @keydown.enter.prevent="choose(found[at])"
        @keydown.esc="open = false"
      />
      <ul id="palette-list" role="listbox">
        <li
          v-for="(item, index) in found"
          :id="`palette-${index}`"
          :key="item.label + item.hint"
          role="option"
          :aria-selected="index === at"
          :class="{ on: index === at }"
          @click="choose(item)"
          @mousemove="at = index"
        >
          {{ item.label }} <span class="quiet">{{ item.hint }}</span>
        </li>
        <li v-if="!found.length" class="quiet">Nothing here is called that. Try a plan, a workload or an action.</li>
      </ul>
    </div>
  </div>
</template>

<style scoped>
.veil {
  position: fixed;
  inset: 0;
  background: var(--shade);
  z-index: 3000;
}
.palette {
  width: min(560px, 92vw);
  margin: 12vh auto 0;
  background: var(--sheet);
  border: 1px solid var(--rule);
  border-radius: var(--radius);
  box-shadow: 0 12px 40px var(--shade);
}
input {
  width: 100%;
  font: inherit;
  font-size: var(--text-l);
  padding: 12px 14px;
  border: 0;
  border-bottom: 1px solid var(--rule);
  background: transparent;
  color: var(--ink-1);
}
input:focus-visible {
  outline: none;
}
li {
  padding: 7px 14px;
  display: flex;
  justify-content: space-between;
  cursor: pointer;
}
li.on {
  background: var(--brass-soft);
}
</style>
