<script setup lang="ts">
// What one or several selected workloads have in common; a change is set for all of them.
import { computed, ref } from "vue";
import type { Member, Plan } from "@/api/types";
import CueList from "@/features/plans/CueList.vue";
import { find, type Owner } from "@/features/plans/draft";
import KeptInput from "@/ui/KeptInput.vue";
import { list, roman } from "@/ui/format";

const props = defineProps<{ plan: Plan; first: number; selected: string[] }>();
const emit = defineEmits<{
  move: [workloads: string[], wave: number];
  set: [field: keyof Member, value: Member[keyof Member]];
  remove: [];
  cue: [owner: Owner, id: string | null];
  edit: [change: (plan: Plan) => void];
}>();
const more = ref(false);

const chosen = computed(() => props.selected.flatMap((name) => find(props.plan, name)?.[1] ?? []));
function common<K extends keyof Member>(field: K): Member[K] | undefined {
  const values = new Set(chosen.value.map((member) => JSON.stringify(member[field])));
  return values.size === 1 ? chosen.value[0]?.[field] : undefined;
}
const wave = computed(() => {
  const waves = new Set(props.selected.map((name) => find(props.plan, name)?.[0]));
  return waves.size === 1 ? [...waves][0] : undefined;
});
// A member may wait for those of its own wave or of an earlier one.
const mayWaitFor = computed(() => {
  const first = Math.min(...props.selected.map((name) => find(props.plan, name)?.[0] ?? 0));
  return props.plan.waves
    .slice(0, first + 1)
    .flatMap((one) => one.members.map((member) => member.workload))
    .filter((name) => !props.selected.includes(name));
});
const readyWords = {
  checks: "all its services answer",
  heartbeat: "its guest has a heartbeat",
  "powered-on": "it is powered on",
  "at-once": "its wave opens",
} as const;
const failureWords = { ask: "the run asks", "go-on": "the run goes on", stop: "the run is held" } as const;

function setNumber(field: "delay_s" | "ready_timeout_s" | "shutdown_limit_s", value: number | undefined) {
  if (value !== undefined && value !== null) emit("set", field, value);
}
</script>

<template>
  <div v-if="chosen.length" class="inspector">
    <h2>{{ selected.length === 1 ? selected[0] : `${selected.length} selected: ${list(selected)}` }}</h2>
    <el-form-item class="field" label="Wave"><el-select :model-value="wave" placeholder="several" size="small" filterable default-first-option @update:model-value="emit('move', selected, $event)">
      <el-option v-for="(one, index) in plan.waves" :key="index" :value="index" :label="`${roman(first + index + 1)} ${one.name}`" />
    </el-select></el-form-item>
    <el-form-item class="field" label="Boot delay, seconds"><el-input-number
      id="boot-delay"
      :model-value="common('delay_s')"
      :min="0"
      :max="86400"
      :step="15"
      :precision="0"
      size="small"
      aria-label="Boot delay, seconds"
      @update:model-value="setNumber('delay_s', $event)"
    /></el-form-item>
    <el-form-item class="field" label="Waits for"><el-select
      id="waits-for"
      :model-value="common('depends_on') ?? []"
      multiple
      filterable
      size="small"
      placeholder="only its wave"
      aria-label="Waits for"
      default-first-option
      @update:model-value="emit('set', 'depends_on', $event)">
      <el-option v-for="name in [...new Set([...mayWaitFor, ...(common('depends_on') ?? [])])]" :key="name" :value="name" :label="name" />
    </el-select></el-form-item>
    <el-form-item class="field" label="Ready when"><el-select :model-value="common('ready')" size="small" placeholder="several" filterable default-first-option @update:model-value="emit('set', 'ready', $event)">
      <el-option v-for="(words, value) in readyWords" :key="value" :value="value" :label="words" />
    </el-select></el-form-item>
    <el-form-item class="field" label="Gives up after, seconds"><el-input-number
      :model-value="common('ready_timeout_s')"
      :min="1"
      :max="86400"
      :step="60"
      :precision="0"
      size="small"
      aria-label="Gives up after, seconds"
      @update:model-value="setNumber('ready_timeout_s', $event)"
    /></el-form-item>
    <el-form-item class="field" label="When it fails"><el-select :model-value="common('on_failure')" size="small" placeholder="several" filterable default-first-option @update:model-value="emit('set', 'on_failure', $event)">
      <el-option v-for="(words, value) in failureWords" :key="value" :value="value" :label="words" />
    </el-select></el-form-item>
    <el-checkbox :model-value="common('power_on') ?? false" @update:model-value="emit('set', 'power_on', !!$event)">Power it on</el-checkbox>
    <button class="link" :aria-expanded="more" @click="more = !more">{{ more ? "Less" : "Size at the target and shutting down" }}</button>
    <template v-if="more">
      <el-form-item v-for="[field, words] in ([['cores', 'Cores there'], ['memory_mib', 'Memory there, MiB']] as const)" :key="field" class="field" :label="`${words}`"><KeptInput :value="common(field) ?? ''" type="number" min="1" class="entry" placeholder="as here" :aria-label="words" @done="emit('set', field, Number($event) || null)" /></el-form-item>
      <el-form-item class="field" label="Shuts down within, seconds"><el-input-number :model-value="common('shutdown_limit_s')" :min="1" :max="86400" :step="60" :precision="0" size="small" aria-label="Shuts down within, seconds" @update:model-value="setNumber('shutdown_limit_s', $event)" /></el-form-item>
      <el-checkbox :model-value="common('force_off') ?? false" @update:model-value="emit('set', 'force_off', !!$event)">Then cut its power</el-checkbox>
      <p class="quiet small">Shutting down is of use in planned failovers, where the source is closed down in the reverse order.</p>
    </template>
    <CueList v-if="selected.length === 1 && selected[0]" :plan="plan" :owner="{ kind: 'member', workload: selected[0] }" what="it" @open="(owner, id) => emit('cue', owner, id)" @edit="emit('edit', $event)" />
    <button class="link bad" @click="emit('remove')">Remove from the plan</button>
  </div>
  <p v-else class="quiet">Select workloads on the board to change when they come up. Ctrl, Shift or a rectangle drawn from empty ground selects several.</p>
</template>

<style scoped>
.inspector {
  display: grid;
  gap: 7px;
  justify-items: start;
}
h2 {
  color: var(--ink-1);
}
.small {
  font-size: var(--text-s);
}
.field .entry {
  width: 120px;
}
.field {
  display: grid;
  grid-template-columns: 104px 150px;
  align-items: center;
  font-size: 13px;
  color: var(--ink-2);
  line-height: 1.2;
}
</style>
