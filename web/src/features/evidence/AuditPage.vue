<script setup lang="ts">
// What people changed: who, when, from where, what was there before and after.
import { useInfiniteQuery } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { api, take } from "@/api/client";
import type { AuditPage } from "@/api/types";
import EvidenceTabs from "@/features/evidence/EvidenceTabs.vue";
import KeptInput from "@/ui/KeptInput.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { count, exactMoment, moment } from "@/ui/format";

const FIELDS = ["kind", "by", "since", "find"] as const;
const KINDS = { changes: "changes", "sign-ins": "sign-ins", refusals: "refusals", downloads: "downloads of evidence" };
const route = useRoute();
const router = useRouter();
const filter = computed(() => Object.fromEntries(FIELDS.flatMap((name) => (typeof route.query[name] === "string" && route.query[name] ? [[name, route.query[name]]] : []))) as { kind?: keyof typeof KINDS; by?: string; since?: string; find?: string });
const { data, error, fetchNextPage, hasNextPage } = useInfiniteQuery({
  queryKey: ["audit", filter],
  queryFn: ({ pageParam }) => take(api.GET("/api/v1/audit", { params: { query: { ...filter.value, ...(pageParam ? { cursor: pageParam } : {}) } } })),
  initialPageParam: "",
  getNextPageParam: (last) => last.next,
  placeholderData: (before) => before,
});
const first = computed(() => data.value?.pages[0]);
const lines = computed(() => data.value?.pages.flatMap((page) => page.lines) ?? []);
const file = computed(() => `/api/v1/audit.jsonl?${new URLSearchParams(filter.value as Record<string, string>).toString()}`);
const narrow = (name: string, value: string) => void router.replace({ query: Object.fromEntries(Object.entries({ ...filter.value, [name]: value }).filter(([, one]) => one)) });
const open = ref(0);

interface Change {
  what: string;
  before: Record<string, unknown> | null;
  after: Record<string, unknown> | null;
}
const changes = (text: string): Change[] => JSON.parse(text) as Change[];
const short = (value: unknown) => {
  const text = value === undefined || value === null || value === "" ? "nothing" : typeof value === "string" ? value : JSON.stringify(value);
  return text.length > 400 ? `${text.slice(0, 400)} …` : text;
};
/** Every field that differs, with both its values. */
const fields = (one: Change) => [...new Set([...Object.keys(one.before ?? {}), ...Object.keys(one.after ?? {})])].map((name) => ({ name, before: short(one.before?.[name]), after: short(one.after?.[name]) }));
function anchoredWords(kept: NonNullable<AuditPage["anchored"]>) {
  if (kept.problem) return `▲ The file outside the database that keeps signed heads is not as it should be: ${kept.problem}.`;
  return kept.at ? `A signed head over ${count(kept.entries, "entry", "entries")} is kept outside the database, of ${moment(kept.at)}.` : "No signed head is kept outside the database yet.";
}
const verb = (one: Change) => (one.before === null ? "made" : one.after === null ? "removed" : "changed");
</script>

<template>
  <div class="page">
    <h1 class="sentence">
      <template v-if="!first">Every change that people make is recorded here.</template>
      <template v-else-if="first.touched !== null"><span class="bad">✕ The trail was altered: entry {{ first.touched }} is not the one that was written.</span></template>
      <template v-else-if="!lines.length">Nobody changed anything{{ Object.keys(filter).length ? " that fits these filters" : " yet" }}.</template>
      <template v-else>{{ count(first.total, "entry", "entries") }}{{ Object.keys(filter).length ? " fit these filters" : " by " + count(first.people.length, "person", "people") }}; <b>every entry is as it was written.</b></template>
    </h1>
    <p class="under">Each entry carries the hash of the one before. Secrets are never in it. What runs do is in their own logs; here stands who told them.<template v-if="first?.anchored"> {{ anchoredWords(first.anchored) }}</template></p>
    <EvidenceTabs />
    <ProblemNote v-if="error" :error="error" />
    <form class="filters" aria-label="Filters" @submit.prevent>
      <el-form-item label="About"><el-select class="entry" :model-value="filter.kind ?? ''" filterable default-first-option @change="narrow('kind', $event)">
        <el-option value="" label="everything" />
        <el-option v-for="(name, kind) in KINDS" :key="kind" :value="kind" :label="name" />
      </el-select></el-form-item>
      <el-form-item label="Who"><el-select class="entry" :model-value="filter.by ?? ''" filterable default-first-option @change="narrow('by', $event)">
        <el-option value="" label="everybody" />
        <el-option v-for="name in first?.people ?? []" :key="name" :value="name" :label="`${name}`" />
      </el-select></el-form-item>
      <el-form-item label="From"><el-date-picker type="date" value-format="YYYY-MM-DD" format="D MMM YYYY" :model-value="filter.since" @update:model-value="narrow('since', ($event ?? ''))" /></el-form-item>
      <el-form-item label="Words"><KeptInput class="entry" type="search" :value="filter.find ?? ''" placeholder="plan, group, drill …" maxlength="200" @done="narrow('find', $event)" /></el-form-item>
      <a v-may="'read-audit'" class="btn" :href="file" download>As JSON lines, signed</a>
    </form>
    <div v-if="lines.length" class="scroll" tabindex="0"><table class="lines">
      <thead><tr><th>No.</th><th>When</th><th>Who</th><th>From where</th><th>What they did</th><th>To what</th></tr></thead>
      <tbody>
        <template v-for="one in lines" :key="one.number">
          <tr :data-entry="one.number">
            <td class="mono">{{ one.number }}</td>
            <td class="mono">{{ exactMoment(one.at) }}</td>
            <td>{{ one.by || (one.method ? "nobody signed in" : "Maestoso itself") }}</td>
            <td class="mono quiet">{{ one.address }}</td>
            <td><button class="link" :aria-expanded="open === one.number" @click="open = open === one.number ? 0 : one.number">{{ one.did || `${one.method} ${one.path}` }} {{ open === one.number ? "▾" : "▸" }}</button></td>
            <td class="mono quiet">{{ one.path }}</td>
          </tr>
          <tr v-if="open === one.number">
            <td />
            <td colspan="5">
              <template v-for="(change, i) in changes(one.changed)" :key="i">
                <p><b>{{ change.what }}</b> {{ verb(change) }}</p>
                <ul class="fields">
                  <li v-for="field in fields(change)" :key="field.name"><span class="mono">{{ field.name }}</span> <span class="quiet">{{ field.before }}</span> → {{ field.after }}</li>
                </ul>
              </template>
              <details v-if="one.sent !== 'null' && one.sent !== '{}'" :open="!changes(one.changed).length"><summary>What was sent</summary><pre class="mono">{{ one.sent }}</pre></details>
            </td>
          </tr>
        </template>
      </tbody>
    </table></div>
    <p v-if="hasNextPage"><el-button class="btn" @click="fetchNextPage()">Older entries</el-button></p>
  </div>
</template>

<style scoped>
.filters {
  display: flex;
  flex-wrap: wrap;
  gap: var(--gap-3);
  align-items: flex-end;
  margin: var(--gap-3) 0 var(--gap-2);
}
.filters label {
  color: var(--ink-2);
}
.filters .entry {
  display: block;
}
.fields li {
  overflow-wrap: anywhere;
  padding-left: var(--gap-3);
}
pre {
  font-size: var(--text-s);
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
</style>
