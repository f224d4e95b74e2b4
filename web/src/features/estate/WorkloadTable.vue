<script setup lang="ts">
// Only the rows in sight are drawn; the rest is fetched as it comes into sight.
import { useVirtualizer } from "@tanstack/vue-virtual";
import { computed, ref, useTemplateRef, watch } from "vue";
import type { WorkloadBrief } from "@/api/types";

const props = defineProps<{ rows: Map<number, WorkloadBrief>; matched: number; sort: string; none: string }>();
const selected = defineModel<Set<string>>("selected", { required: true });
const emit = defineEmits<{ see: [first: number, last: number]; open: [name: string]; sort: [by: string]; all: [] }>();

const COLUMNS = [
  { key: "name", title: "Name" },
  { key: "site", title: "Site" },
  { key: "group", title: "Group" },
  { key: "os", title: "OS" },
  { key: "cores", title: "Cores" },
  { key: "memory", title: "Memory" },
  { key: "size", title: "Disks" },
  { key: "", title: "Addresses" },
  { key: "", title: "Tags" },
];
const HEIGHT = 30;
const box = useTemplateRef<HTMLElement>("box");
const at = ref(0);
const anchor = ref(0);
const virtual = useVirtualizer(
  computed(() => ({ count: props.matched, getScrollElement: () => box.value, estimateSize: () => HEIGHT, overscan: 12 })),
);
const items = computed(() => virtual.value.getVirtualItems());
watch(items, (now) => {
  const [first, last] = [now[0], now.at(-1)];
  if (first && last) emit("see", first.index, last.index);
});
watch(() => props.matched, () => (at.value = Math.min(at.value, Math.max(props.matched - 1, 0))));

function toggle(name: string) {
  const next = new Set(selected.value);
  if (!next.delete(name)) next.add(name);
  selected.value = next;
}
function range(from: number, to: number) {
  const next = new Set(selected.value);
  for (let i = Math.min(from, to); i <= Math.max(from, to); i += 1) {
    const row = props.rows.get(i);
    if (row) next.add(row.name);
  }
  selected.value = next;
}
function choose(index: number, event: MouseEvent) {
  const row = props.rows.get(index);
  if (!row) return;
  at.value = index;
  if (event.shiftKey) range(anchor.value, index);
  else if (event.ctrlKey || event.metaKey) toggle(row.name);
  else emit("open", row.name);
  if (!event.shiftKey) anchor.value = index;
}
function move(by: number, event: KeyboardEvent) {
  at.value = Math.min(Math.max(at.value + by, 0), Math.max(props.matched - 1, 0));
  virtual.value.scrollToIndex(at.value);
  if (event.shiftKey) range(anchor.value, at.value);
  else anchor.value = at.value;
}
function key(event: KeyboardEvent) {
  const row = props.rows.get(at.value);
  const page = Math.max(Math.floor((box.value?.clientHeight ?? 300) / HEIGHT) - 1, 1);
  const moves: Record<string, number> = { ArrowDown: 1, ArrowUp: -1, PageDown: page, PageUp: -page, Home: -props.matched, End: props.matched };
  const by = moves[event.key];
  if (by !== undefined) move(by, event);
  else if (event.key === " " && row) toggle(row.name);
  else if (event.key === "Enter" && row) emit("open", row.name);
  else if (event.key.toLowerCase() === "a" && (event.ctrlKey || event.metaKey)) emit("all");
  else if (event.key === "Escape") selected.value = new Set();
  else return;
  event.preventDefault();
}
const tags = (row: WorkloadBrief) => Object.entries(row.tags).map(([name, value]) => `${name}=${value}`).join("  ");
const memory = (mib: number) => (mib >= 1024 ? `${Math.round(mib / 102.4) / 10} GiB` : `${mib} MiB`);
</script>

<template>
  <div class="whole" role="grid" aria-label="Workloads" :aria-rowcount="matched">
    <div class="head" role="row">
      <span role="columnheader"><el-checkbox :model-value="matched > 0 && selected.size >= matched" @change="selected.size ? (selected = new Set()) : emit('all')"><span class="out-of-sight">Select all that the filter finds</span></el-checkbox></span>
      <span v-for="column in COLUMNS" :key="column.title" role="columnheader" :aria-sort="sort === column.key ? 'ascending' : sort === `-${column.key}` ? 'descending' : undefined">
        <button v-if="column.key" class="link" @click="emit('sort', sort === column.key ? `-${column.key}` : column.key)">{{ column.title }}{{ sort === column.key ? " ↓" : sort === `-${column.key}` ? " ↑" : "" }}</button>
        <template v-else>{{ column.title }}</template>
      </span>
    </div>
    <div ref="box" class="rows" tabindex="0" role="rowgroup" aria-label="Rows" @keydown="key">
      <p v-if="!matched" role="row" class="quiet none"><span role="gridcell">{{ none }}</span></p>
      <div :style="{ height: `${virtual.getTotalSize()}px` }" class="all">
        <div
          v-for="item in items"
          :key="item.index"
          class="row"
          role="row"
          :data-workload="rows.get(item.index)?.name"
          :class="{ at: item.index === at, selected: selected.has(rows.get(item.index)?.name ?? '') }"
          :aria-selected="selected.has(rows.get(item.index)?.name ?? '')"
          :style="{ transform: `translateY(${item.start}px)`, height: `${HEIGHT}px` }"
          @click="choose(item.index, $event)"
        >
          <template v-for="row in [rows.get(item.index)]" :key="row?.name ?? item.index">
            <template v-if="row">
              <span role="gridcell"><el-checkbox tabindex="-1" :model-value="selected.has(row.name)" @click.stop @change="toggle(row.name)"><span class="out-of-sight">{{ `Select ${row.name}` }}</span></el-checkbox></span>
              <b role="gridcell">{{ row.name }}</b>
              <span role="gridcell" class="mono">{{ row.site }}</span>
              <span v-if="row.group" role="gridcell">{{ row.group }}<template v-if="row.left_out"> ▲</template></span>
              <span v-else role="gridcell" class="bad">✕ not protected</span>
              <span role="gridcell">{{ row.os_family }}</span>
              <span role="gridcell" class="mono right">{{ row.cores }}</span>
              <span role="gridcell" class="mono right">{{ memory(row.memory_mib) }}</span>
              <span role="gridcell" class="mono right">{{ row.size_gib }} GiB</span>
              <span role="gridcell" class="mono cut">{{ row.addresses.join(", ") || "DHCP" }}</span>
              <span role="gridcell" class="cut quiet">{{ tags(row) }}</span>
            </template>
            <span v-else role="gridcell" class="quiet">…</span>
          </template>
        </div>
      </div>
    </div>
  </div>
</template>

<style scoped>
.whole {
  display: flex;
  flex-direction: column;
  flex: 1;
  min-height: 0;
  overflow-x: auto;
}
.head,
.row {
  display: grid;
  grid-template-columns: 28px minmax(110px, 1.1fr) 52px minmax(96px, 1fr) 74px 50px 76px 82px minmax(130px, 1.5fr) minmax(130px, 1.6fr);
  gap: 8px;
  align-items: center;
  padding: 0 8px;
}
.head {
  color: var(--ink-2);
  font-weight: 700;
  padding: 8px;
  border-bottom: 1px solid var(--rule);
  margin-top: var(--gap-2);
}
.head .link {
  text-align: left;
  color: var(--ink-2);
  font-weight: 700;
}
.head > :nth-child(n + 6):nth-child(-n + 8) {
  text-align: right;
}
.none {
  padding: var(--gap-3) 8px;
}
.rows {
  flex: 1;
  min-height: 200px;
  overflow-y: auto;
}
.all {
  position: relative;
}
.row {
  position: absolute;
  inset: 0 0 auto;
  border-bottom: 1px solid var(--rule-faint);
  cursor: pointer;
}
.row:hover {
  background: var(--rule-faint);
}
.row.selected {
  background: var(--brass-soft);
}
.rows:focus-visible .at {
  outline: 2px solid var(--brass);
  outline-offset: -2px;
}
.right {
  text-align: right;
}
.cut {
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
@media (max-width: 760px) {
  .head,
  .row {
    grid-template-columns: 28px 1fr 52px 1fr;
  }
  .head > :nth-child(n + 5),
  .row > :nth-child(n + 5) {
    display: none;
  }
}
</style>
