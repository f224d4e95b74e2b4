<script lang="ts">
import type { RunOptions } from "@/api/types";

/** What is chosen for a run that moves production. */
export type LiveChoices = Required<Pick<RunOptions, "close_down" | "go_on" | "decide_within_s" | "then" | "at_commit" | "declared_at" | "acknowledged" | "force_after_s">>;
</script>

<script setup lang="ts">
import { computed } from "vue";
import { instant, wallClock } from "@/ui/format";

const props = defineProps<{ kind: string; source: string; sourceLost: string }>();
const choices = defineModel<LiveChoices>({ required: true });
const disaster = computed(() => props.kind === "disaster");
const set = (change: Partial<LiveChoices>) => (choices.value = { ...choices.value, ...change });
const minutes = computed({
  get: () => Math.round(choices.value.decide_within_s / 60),
  set: (value: number | undefined) => set({ decide_within_s: (value ?? 0) * 60 }),
});
const atCommit = [
  { value: "nothing", label: "nothing: I re-protect it myself" },
  { value: "re-protect", label: "it is re-protected by itself" },
  { value: "end-protection", label: "its protection ends (relocate)" },
];
</script>

<template>
  <template v-if="disaster">
    <p><el-checkbox :model-value="choices.close_down" @update:model-value="set({ close_down: !!$event })">Shut {{ source }} down as far as it answers</el-checkbox></p>
    <p><el-checkbox :model-value="choices.go_on" @update:model-value="set({ go_on: !!$event })">Go on over errors, and record them</el-checkbox></p>
    <p v-if="sourceLost || !choices.close_down">
      <el-checkbox :model-value="choices.acknowledged" @update:model-value="set({ acknowledged: !!$event })">
        I know that copies at {{ source }} may still run; do not ask again
      </el-checkbox>
    </p>
    <p class="choice">
      The outage began
      <el-date-picker
        :model-value="choices.declared_at ? wallClock(choices.declared_at) : ''"
        type="datetime"
        size="small"
        placeholder="now"
        value-format="YYYY-MM-DDTHH:mm:ss"
        aria-label="When the outage began"
        @update:model-value="set({ declared_at: $event ? instant($event) : null })"
      />
    </p>
  </template>
  <p v-if="!disaster || choices.close_down" class="choice">
    <el-checkbox :model-value="choices.force_after_s !== null" @update:model-value="set({ force_after_s: $event ? 120 : null })">Cut the power of guests that are not down after</el-checkbox>
    <el-input-number :model-value="choices.force_after_s ?? 120" :min="0" :max="86400" :precision="0" size="small" :disabled="choices.force_after_s === null" aria-label="Seconds until power is cut" @update:model-value="choices.force_after_s !== null && set({ force_after_s: $event ?? 0 })" /> s
    <span v-if="choices.force_after_s === null" class="quiet">(as the plan says of each)</span>
  </p>
  <p class="choice">
    <el-checkbox :model-value="choices.decide_within_s > 0" @update:model-value="set({ decide_within_s: $event ? 3600 : 0 })">Decide by itself after</el-checkbox>
    <el-input-number :model-value="minutes || 60" :min="1" :max="10080" :precision="0" size="small" :disabled="!choices.decide_within_s" aria-label="Minutes of the decision window" @update:model-value="choices.decide_within_s && (minutes = $event)" /> min:
    <el-select :model-value="choices.then" size="small" class="short" :disabled="!choices.decide_within_s" aria-label="What happens then" filterable default-first-option @update:model-value="set({ then: $event })">
      <el-option value="roll-back" label="roll back" />
      <el-option value="commit" label="commit" />
    </el-select>
  </p>
  <p class="choice">
    After a commit
    <el-select :model-value="choices.at_commit" size="small" class="long" aria-label="After a commit" filterable default-first-option @update:model-value="set({ at_commit: $event })">
      <el-option v-for="one in atCommit" :key="one.value" :value="one.value" :label="one.label" />
    </el-select>
  </p>
</template>

<style scoped>
.choice {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 6px;
  margin: 5px 0;
}
.short {
  width: 110px;
}
.long {
  width: 240px;
}
</style>
