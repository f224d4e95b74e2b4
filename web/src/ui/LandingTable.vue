<script setup lang="ts">
// Before and after, an adapter a row. Only the rows in sight are drawn.
import { useVirtualizer } from "@tanstack/vue-virtual";
import { computed, ref, useTemplateRef } from "vue";
import type { LandingRow, SideView } from "@/api/types";
import { landed } from "@/ui/landing";

const props = defineProps<{ rows: LandingRow[]; none: string; opened?: string }>();
const emit = defineEmits<{ open: [row: LandingRow] }>();
const box = useTemplateRef<HTMLElement>("box");
const at = ref(0);
const LINE = 21;
const heightOf = (row: LandingRow | undefined) => 12 + LINE * (1 + (row?.findings.length ?? 0));
const virtual = useVirtualizer(
  computed(() => ({ count: props.rows.length, getScrollElement: () => box.value, estimateSize: (i: number) => heightOf(props.rows[i]), overscan: 10 })),
);
const SHAPES = { blocks: "■", warns: "▲", note: "●" } as const;
const SIDES = { live: "Live", test: "Test", both: "" } as const;

function key(event: KeyboardEvent) {
  const moves: Record<string, number> = { ArrowDown: 1, ArrowUp: -1, PageDown: 12, PageUp: -12, Home: -props.rows.length, End: props.rows.length };
  const by = moves[event.key];
  const row = props.rows[at.value];
  if (by !== undefined) {
    at.value = Math.min(Math.max(at.value + by, 0), Math.max(props.rows.length - 1, 0));
    virtual.value.scrollToIndex(at.value);
  } else if (event.key === "Enter" && row) emit("open", row);
  else return;
  event.preventDefault();
}
const how = (side: SideView | null) => (!side || !side.decided ? "" : side.decided === "table" ? "by the table" : side.decided === "dhcp" ? "as before" : side.decided === "home" ? "as it was at home" : side.decided === "reservation" ? "reserved there" : `rule ${side.decided}`);
</script>

<template>
  <div class="head" aria-hidden="true">
    <span>Workload</span><span>Before</span><span>After, live</span><span>After, in a test</span>
  </div>
  <div ref="box" class="rows" tabindex="0" role="grid" aria-label="Before and after" :aria-rowcount="rows.length" @keydown="key">
    <p v-if="!rows.length" role="row" class="quiet none"><span role="gridcell">{{ none }}</span></p>
    <div class="all" :style="{ height: `${virtual.getTotalSize()}px` }">
      <div
        v-for="item in virtual.getVirtualItems()"
        :key="item.index"
        class="row"
        role="row"
        :data-landing="`${rows[item.index]?.workload}/${rows[item.index]?.nic}`"
        :class="{ at: item.index === at, opened: opened === `${rows[item.index]?.workload}/${rows[item.index]?.nic}` }"
        :style="{ transform: `translateY(${item.start}px)`, height: `${heightOf(rows[item.index])}px` }"
        @click="((at = item.index), emit('open', rows[item.index]!))"
      >
        <template v-for="row in [rows[item.index]!]" :key="row.workload + row.nic">
          <div class="cells">
            <span role="gridcell" class="cut"><b>{{ row.workload }}</b> <span class="mono quiet">{{ row.nic }}</span><span v-if="row.exception" class="odd" title="An exception or a table entry is about this one"> ✎</span></span>
            <span role="gridcell" class="cut" :title="row.before"><span class="mono">{{ row.before }}</span> <span class="quiet">{{ row.network }}</span></span>
            <span role="gridcell" class="cut" :title="`${landed(row.live)} ${how(row.live)}`"><span class="mono">{{ landed(row.live) }}</span> <span class="quiet">{{ row.live?.network }}</span></span>
            <span role="gridcell" class="cut" :title="`${landed(row.test)} ${how(row.test)}`"><span class="mono">{{ landed(row.test) }}</span> <span class="quiet">{{ row.test?.isolated ? "isolated" : row.test?.network }}</span></span>
          </div>
          <p v-for="one in row.findings" :key="one.side + one.finding.code + one.finding.sentence" role="gridcell" class="finding cut" :class="one.finding.severity" :title="one.finding.mend">
            <span aria-hidden="true">{{ SHAPES[one.finding.severity] }}</span> <b v-if="SIDES[one.side]">{{ SIDES[one.side] }}: </b>{{ one.finding.sentence }} <span class="quiet">{{ one.finding.mend }}</span>
          </p>
        </template>
      </div>
    </div>
  </div>
</template>

<style scoped>
.head,
.cells {
  display: grid;
  grid-template-columns: 5fr 8fr 8fr 8fr;
  gap: var(--gap-3);
}
.head {
  color: var(--ink-2);
  font-weight: 700;
  padding: 4px 10px;
  border-bottom: 1px solid var(--rule);
}
.rows {
  height: min(62vh, 640px);
  overflow-y: auto;
  background: var(--sheet);
  border: 1px solid var(--rule);
  border-top: 0;
}
.all {
  position: relative;
}
.row {
  position: absolute;
  inset: 0 0 auto 0;
  padding: 5px 10px;
  border-bottom: 1px solid var(--rule-faint);
  line-height: 21px;
  cursor: pointer;
}
.row:hover,
.opened {
  background: var(--brass-soft);
}
.rows:focus-visible .at {
  outline: 2px solid var(--brass);
  outline-offset: -2px;
}
.cut {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.odd {
  color: var(--brass);
}
.finding {
  padding-left: var(--gap-4);
}
.blocks > span:first-child {
  color: var(--disaster);
}
.warns > span:first-child {
  color: var(--brass);
}
.none {
  padding: var(--gap-4);
}
</style>
