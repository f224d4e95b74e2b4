<script setup lang="ts">
// How a group is copied, and which points are kept.
import type { Policy } from "@/api/types";
import KeptInput from "@/ui/KeptInput.vue";
import { instant, wallClock } from "@/ui/format";

const policy = defineModel<Policy>({ required: true });
defineProps<{ isNew: boolean }>();

/** Seconds as a number and a unit that people count in. */
const UNITS = { s: 1, min: 60, h: 3600, days: 86_400 } as const;
type Unit = keyof typeof UNITS;
const TIMES = [
  { key: "interval_s", label: "A point every", unit: "s" },
  { key: "rpo_s", label: "Objective: never older than (RPO)", unit: "s" },
  { key: "app_consistent_every_s", label: "Application-consistent every (0: never)", unit: "h" },
  { key: "keep_all_s", label: "Keep all points for", unit: "h" },
  { key: "keep_hourly_s", label: "then hourly ones for", unit: "h" },
  { key: "keep_daily_s", label: "then daily ones for", unit: "days" },
] as const satisfies { key: keyof Policy; label: string; unit: Unit }[];
const set = (name: (typeof TIMES)[number]["key"], unit: Unit, text: string) => (policy.value[name] = Math.round(Number(text) * UNITS[unit]));
const shown = (name: (typeof TIMES)[number]["key"], unit: Unit) => policy.value[name] / UNITS[unit];
</script>

<template>
  <div>
    <h2>Policy</h2>
    <div class="two">
      <el-form-item label="How"><el-select v-model="policy.mode" filterable default-first-option>
        <el-option value="continuous" label="continuously" />
        <el-option value="interval" label="in cycles" />
        <el-option value="backup-copy" label="as backup copies" />
      </el-select></el-form-item>
      <el-form-item label="Weight on its link"><el-input v-model.number="policy.weight" type="number" min="1" max="100" /></el-form-item>
      <el-form-item v-for="time in TIMES" :key="time.key" :label="`${time.label}, ${time.unit}`"><KeptInput type="number" min="0" step="any" :value="shown(time.key, time.unit)" @done="set(time.key, time.unit, $event)" /></el-form-item>
      <el-form-item label="At most so many points (0: no limit)"><el-input v-model.number="policy.most_points" type="number" min="0" /></el-form-item>
      <el-form-item v-if="isNew" label="First copy"><el-select v-model="policy.initial" filterable default-first-option>
        <el-option value="now" label="now" />
        <el-option value="at" label="at a time" />
        <el-option value="seed" label="from a seed that is already there" />
      </el-select></el-form-item>
      <el-form-item v-if="policy.initial === 'at' && isNew" label="begins at"><el-date-picker :model-value="policy.initial_at ? wallClock(policy.initial_at) : null" type="datetime" value-format="YYYY-MM-DDTHH:mm:ss" format="D MMM YYYY, HH:mm" @update:model-value="policy.initial_at = $event ? instant($event) : null" /></el-form-item>
    </div>
    <p>
      <el-checkbox v-model="policy.compression">compress on the link</el-checkbox>
      <el-checkbox v-model="policy.encrypted">encrypt the copies</el-checkbox>
    </p>
  </div>
</template>
