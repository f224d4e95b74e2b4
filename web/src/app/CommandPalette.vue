<script setup lang="ts">
import { refDebounced } from "@vueuse/core";
import { computed, nextTick, ref, useTemplateRef, watch } from "vue";
import { useRouter } from "vue-router";
import type { SiteLine } from "@/api/types";
import { switchTheme } from "@/ui/theme";
import { usePlans, useSearch } from "@/api/queries";
import type { Section } from "@/ui/help";

const props = defineProps<{ line: SiteLine | undefined }>();
const open = defineModel<boolean>({ required: true });
const emit = defineEmits<{ keys: []; help: []; signOut: [] }>();
const router = useRouter();
const words = ref("");
// Pages and actions are found here, what the records know by the server.
const looked = refDebounced(computed(() => words.value.trim()), 120);
const searches = computed(() => open.value && looked.value.length > 1);
const { data: hits, isPlaceholderData: older, isLoading: searching } = useSearch(looked, searches);
const { data: listed, isLoading: listing } = usePlans(open);
const MOST_HERE = 8;
const MOST_SAID = 4;
const MOST = 20;
const at = ref(0);
const field = useTemplateRef<HTMLInputElement>("field");

interface Item {
  label: string;
  hint: string;
  run: () => void;
}

const go = (to: string) => () => void router.push(to);
const items = computed<Item[]>(() => {
  const plans = listed.value?.plans ?? [];
  const runs = props.line?.runs ?? [];
  return [
    { label: "Readiness", hint: "page", run: go("/") },
    { label: "Estate", hint: "page", run: go("/estate") },
    { label: "Sites and networks", hint: "page", run: go("/estate/sites") },
    { label: "Dependencies", hint: "page", run: go("/estate/uses") },
    { label: "Import a file", hint: "action", run: go("/estate/import") },
    { label: "Protection", hint: "page", run: go("/protection") },
    { label: "Protect workloads in a new group", hint: "action", run: go("/protection/new") },
    { label: "Crosswalks", hint: "page", run: go("/crosswalks") },
    ...(props.line?.flows ?? []).map((flow) => ({ label: `Where ${flow.source} lands at ${flow.target}`, hint: "crosswalk", run: go(`/crosswalks/${flow.source}/${flow.target}`) })),
    { label: "Plans", hint: "page", run: go("/plans") },
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
    { label: "Approvals: second signatures, and what needs them", hint: "page", run: go("/approvals") },
    { label: "People, roles and invitations", hint: "page", run: go("/settings/people") },
    { label: "My account: password, sessions, tokens", hint: "page", run: go("/account") },
    { label: "Backups", hint: "page", run: go("/settings/backups") },
    { label: "Jobs", hint: "page", run: go("/jobs") },
    { label: "Retired things, and the way back", hint: "page", run: go("/settings/retired") },
    ...plans.map((plan) => ({ label: `${plan.name} over all its runs`, hint: "trend", run: go(`/evidence/plans/${plan.code}`) })),
    { label: "Practice lab", hint: "page", run: go("/lab") },
    { label: "Switch between day and night", hint: "action", run: switchTheme },
    { label: "What is this page for?", hint: "help", run: () => emit("help") },
    { label: "All help", hint: "page", run: go("/help") },
    { label: "Keys of this page", hint: "action", run: () => emit("keys") },
    { label: "Sign out", hint: "action", run: () => emit("signOut") },
  ];
});
// What the documents say of it: sections whose heading has all the words first, then those whose text has.
const sections = ref<Section[]>([]);
watch(looked, async (now) => now && (sections.value = await (await import("@/ui/help")).everySection()));
const said = computed(() => {
  const parts = looked.value.toLowerCase().split(/\s+/).filter(Boolean);
  if (!parts.length) return [];
  const holding = (text: (one: Section) => string) => sections.value.filter((one) => parts.every((part) => text(one).toLowerCase().includes(part)));
  const ordered = [...new Set([...holding((one) => one.title), ...holding((one) => one.text)])];
  return ordered.slice(0, MOST_SAID).map((one) => ({ label: one.title, hint: `help, ${one.topic.replace("-", " ")}`, run: go(`/help/${one.topic}#${one.anchor}`) }));
});
const parts = computed(() => words.value.toLowerCase().split(/\s+/).filter(Boolean));
const mine = computed(() => items.value.filter((item) => parts.value.every((part) => `${item.label} ${item.hint}`.toLowerCase().includes(part))).slice(0, MOST_HERE));
const found = computed(() => {
  const there = parts.value.length ? (hits.value?.hits ?? []).filter((hit) => hit.kind !== "plan") : [];
  // What comes later stands below, so that nothing moves away under a key that is about to be pressed.
  return [...mine.value, ...there.map((hit) => ({ label: hit.title, hint: hit.hint, run: go(hit.to) })), ...said.value].slice(0, MOST);
});

// Enter is for what was typed: where that is still being asked for, it waits for it.
const looking = computed(() => at.value >= mine.value.length && (listing.value || looked.value !== words.value.trim() || (searches.value && (searching.value || older.value))));
const entered = ref(false);
watch([words, at, open], () => (entered.value = false), { flush: "sync" });
watch(looking, (now) => {
  if (now || !entered.value) return;
  entered.value = false;
  choose(found.value[at.value]);
});

let before: Element | null = null;
watch(open, async (now) => {
  if (!now) {
    if (before instanceof HTMLElement) before.focus();
    return;
  }
  before = document.activeElement;
  words.value = "";
  at.value = 0;
  await nextTick();
  field.value?.focus();
});
watch(words, () => (at.value = 0));

function enter() {
  if (looking.value) entered.value = true;
  else choose(found.value[at.value]);
}
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
    <div class="palette" role="dialog" aria-modal="true" aria-label="Find or do anything">
      <input
        ref="field"
        v-model="words"
        placeholder="Find or do anything"
        role="combobox"
        aria-label="Find or do anything"
        aria-expanded="true"
        aria-controls="palette-list"
        :aria-activedescendant="`palette-${at}`"
        @keydown.down.prevent="move(1)"
        @keydown.up.prevent="move(-1)"
        @keydown.enter.prevent="enter"
        @keydown.esc="open = false"
        @keydown.tab.prevent
      />
      <ul id="palette-list" role="listbox" aria-label="Found">
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
          <span>{{ item.label }}</span> <span class="quiet hint">{{ item.hint }}</span>
        </li>
        <li v-if="looking && (entered || !found.length)" class="quiet" role="option" aria-disabled="true">Looking …</li>
        <li v-else-if="!found.length" class="quiet" role="option" aria-disabled="true">Nothing here is called that. Try a plan, a workload, an address or an action.</li>
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
  gap: var(--gap-3);
  cursor: pointer;
}
ul {
  max-height: 60vh;
  overflow: auto;
}
.hint {
  text-align: right;
}
li.on {
  background: var(--brass-soft);
}
</style>
