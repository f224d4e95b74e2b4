<script setup lang="ts">
// The score in words: a row for each row of the drawing, which takes the focus and opens its steps.
import { useElementSize } from "@vueuse/core";
import { computed, h, useTemplateRef } from "vue";
import type { Column } from "element-plus";
import { clock, roman } from "@/ui/format";
import type { Row } from "@/ui/score/layout";

const props = defineProps<{ rows: Row[]; running: boolean }>();
const emit = defineEmits<{ step: [id: string]; pick: [workload: string, event: MouseEvent] }>();
const box = useTemplateRef<HTMLElement>("box");
const { width } = useElementSize(box);
const ROW = 34;
const MOST_HIGH = 620;

interface Line {
  id: string;
  row: Row;
  wave: string;
  state: string;
  from: string;
  to: string;
  decides: string;
}
const lines = computed<Line[]>(() =>
  props.rows.map((row) => {
    const bars = row.bars.filter((bar) => bar.mark !== "cleanup");
    const [from, to] = [Math.min(...bars.map((bar) => bar.from)), Math.max(...bars.map((bar) => bar.to))];
    return {
      id: row.key, row, wave: row.wave === null ? "" : roman(row.wave + 1), state: row.state,
      from: bars.length ? clock(from) : "", to: bars.length ? clock(to) : "", decides: row.critical.length ? "decides the time" : "",
    };
  }),
);
function open(line: Line, event: MouseEvent) {
  if (line.row.workload) emit("pick", line.row.workload, event);
  else if (line.row.bars[0]) emit("step", line.row.bars[0].step);
}
const text = (key: keyof Line, title: string, width: number): Column<Line> => ({ key, dataKey: key, title, width });
const columns = computed<Column<Line>[]>(() => [
  text("wave", "Wave", 64),
  {
    ...text("id", "What", Math.max(150, width.value - 64 - 84 * 2 - (props.running ? 150 : 0) - 140)),
    cellRenderer: ({ rowData }: { rowData: Line }) => h("button", { class: "link", onClick: (event: MouseEvent) => open(rowData, event) }, rowData.row.label),
  },
  ...(props.running ? [text("state", "State", 150)] : []),
  text("from", props.running ? "From" : "Likely from", 84),
  text("to", props.running ? "To" : "Likely to", 84),
  text("decides", "", 140),
]);
</script>

<template>
  <div ref="box" class="score-table">
    <el-table-v2 v-if="width" :columns="columns" :data="lines" row-key="id" :width="width" :height="Math.min(MOST_HIGH, ROW * (lines.length + 1) + 4)" :row-height="ROW" :header-height="ROW" fixed />
  </div>
</template>

<style scoped>
.score-table {
  width: 100%;
}
</style>
