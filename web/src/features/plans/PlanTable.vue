<script setup lang="ts">
// The plan as a spreadsheet: arrows move, typing or Enter edits, blocks are copied and pasted.
import { computed, nextTick, ref } from "vue";
import type { Plan } from "@/api/types";
import { COLUMNS, putBlock, type Refusal } from "@/features/plans/table";
import { count, roman } from "@/ui/format";

const props = defineProps<{ plan: Plan; first: number; selected: string[] }>();
const emit = defineEmits<{ edit: [change: (plan: Plan) => void]; pick: [workload: string] }>();
const rows = computed(() => props.plan.waves.flatMap((wave, index) => wave.members.map((member) => ({ member, wave: index }))));
const names = computed(() => rows.value.map((row) => row.member.workload));
const at = ref<[number, number]>([0, 0]);
const typing = ref<string | null>(null);
const refused = ref<Refusal[]>([]);
const table = ref<HTMLTableElement | null>(null);

async function go(row: number, column: number) {
  at.value = [Math.min(Math.max(row, 0), Math.max(rows.value.length - 1, 0)), Math.min(Math.max(column, -1), COLUMNS.length - 1)];
  await nextTick();
  table.value?.querySelector<HTMLElement>("[data-at]")?.focus();
}
async function begin(text: string) {
  if (at.value[1] < 0) return;
  typing.value = text;
  await nextTick();
  const field = table.value?.querySelector("input");
  field?.focus();
  field?.setSelectionRange(text.length, text.length);
}
function put(text: string) {
  const [row, column] = at.value;
  typing.value = null;
  emit("edit", (next) => (refused.value = putBlock(next, text, row, column, names.value)));
}
function key(event: KeyboardEvent) {
  const [row, column] = at.value;
  const moves: Record<string, [number, number]> = { ArrowUp: [-1, 0], ArrowDown: [1, 0], ArrowLeft: [0, -1], ArrowRight: [0, 1] };
  const by = moves[event.key];
  if (by) void go(row + by[0], column + by[1]);
  else if (event.key === "Home") void go(row, -1);
  else if (event.key === "Enter" || event.key === "F2") void begin(shown(row, column));
  else if (event.key === "Delete") put("");
  else if (event.key === "Escape") (event.target as HTMLElement).blur();
  else if (event.key.length === 1 && !event.ctrlKey && !event.metaKey) void begin(event.key);
  else return;
  event.preventDefault();
  event.stopPropagation();
}
function done(event: KeyboardEvent) {
  event.stopPropagation();
  if (event.key === "Escape") typing.value = null;
  else if (event.key === "Enter" || event.key === "Tab") put((event.target as HTMLInputElement).value);
  else return;
  event.preventDefault();
  void go(at.value[0] + (event.key === "Enter" ? 1 : 0), at.value[1] + (event.key === "Tab" ? (event.shiftKey ? -1 : 1) : 0));
}
function shown(row: number, column: number): string {
  const one = rows.value[row];
  return one ? (COLUMNS[column]?.show(one.member, one.wave) ?? one.member.workload) : "";
}
function paste(event: ClipboardEvent) {
  const text = event.clipboardData?.getData("text/plain") ?? "";
  if (!text) return;
  event.preventDefault();
  put(text);
}
function copyAll(event: ClipboardEvent) {
  if (typing.value !== null) return;
  const lines = rows.value.map((_, row) => [-1, ...COLUMNS.keys()].map((column) => shown(row, column)).join("\t"));
  event.clipboardData?.setData("text/plain", at.value[1] < 0 ? lines.join("\n") : shown(...at.value));
  event.preventDefault();
}
</script>

<template>
  <section>
    <p class="quiet small">Arrows move, Enter or typing edits, Escape leaves, a block from a spreadsheet is pasted at the cell you are in; pasted at a name, rows of other workloads join the plan. Copying a name copies the whole table.</p>
    <div v-if="refused.length" class="refused" role="alert">
      <p><b class="bad">✕ {{ count(refused.length, "cell was", "cells were") }} not taken over:</b></p>
      <p v-for="(one, index) in refused.slice(0, 8)" :key="index">row {{ one.row }}: {{ one.said }}</p>
      <p v-if="refused.length > 8">and {{ refused.length - 8 }} more.</p>
      <button class="link" @click="refused = []">Dismiss</button>
    </div>
    <div class="scroll">
      <table ref="table" role="grid" aria-label="The plan as a table" @keydown="key" @paste="paste" @copy="copyAll">
        <thead>
          <tr><th>Workload</th><th v-for="column in COLUMNS" :key="column.key">{{ column.title }}</th></tr>
        </thead>
        <tbody>
          <tr v-for="({ member, wave }, row) in rows" :key="member.workload" :class="{ chosen: selected.includes(member.workload), first: row > 0 && rows[row - 1]?.wave !== wave }" :data-row="member.workload">
            <th role="rowheader" :tabindex="at[0] === row && at[1] === -1 ? 0 : -1" :data-at="at[0] === row && at[1] === -1 ? '' : null" @click="go(row, -1), emit('pick', member.workload)"><span class="roman">{{ roman(first + wave + 1) }}</span> {{ member.workload }}</th>
            <td
              v-for="(column, index) in COLUMNS"
              :key="column.key"
              role="gridcell"
              :aria-label="`${column.title} of ${member.workload}`"
              :tabindex="at[0] === row && at[1] === index ? 0 : -1"
              :data-at="at[0] === row && at[1] === index ? '' : null"
              @click="go(row, index)"
              @dblclick="begin(shown(row, index))"
            >
              <input v-if="typing !== null && at[0] === row && at[1] === index" :value="typing" :aria-label="`${column.title} of ${member.workload}`" @input="typing = ($event.target as HTMLInputElement).value" @keydown="done" @blur="typing !== null && put(($event.target as HTMLInputElement).value)" @paste.stop />
              <template v-else>{{ column.show(member, wave) }}</template>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </section>
</template>

<style scoped>
.small {
  font-size: var(--text-s);
  margin-bottom: var(--gap-2);
}
.scroll {
  overflow: auto;
  max-height: 70vh;
}
table {
  border-collapse: collapse;
  font-size: var(--text-s);
  width: 100%;
}
thead th {
  position: sticky;
  top: 0;
  background: var(--paper);
  text-align: left;
  color: var(--ink-2);
  font-weight: 400;
  padding: 2px 6px;
  z-index: 1;
}
tbody th,
td {
  border: 1px solid var(--rule-faint);
  padding: 2px 6px;
  height: 25px;
  text-align: left;
  white-space: nowrap;
  cursor: cell;
}
tbody th {
  font-weight: 600;
  position: sticky;
  left: 0;
  background: var(--paper);
}
td:focus,
tbody th:focus {
  outline: 2px solid var(--brass);
  outline-offset: -2px;
}
tr.first > * {
  border-top: 2px solid var(--ink-1);
}
tr.chosen > * {
  background: var(--brass-soft);
}
td input {
  font: inherit;
  width: 100%;
  min-width: 70px;
  border: 0;
  padding: 0;
  background: var(--sheet);
  color: var(--ink-1);
  outline: none;
}
.refused {
  border-left: 4px solid var(--disaster);
  padding-left: 10px;
  margin-bottom: var(--gap-2);
}
</style>
