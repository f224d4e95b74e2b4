<script setup lang="ts">
// How a run goes about it: sync first, clean-up, probes, who is notified, pace.
import type { Preflight, RunKind } from "@/api/types";
import { useReceivers } from "@/ui/receivers";
import LiveOptions, { type LiveChoices } from "@/features/runs/LiveOptions.vue";

defineProps<{ kind: RunKind; preflight: Preflight | undefined }>();
const syncFirst = defineModel<boolean>("syncFirst", { required: true });
const cleanUp = defineModel<boolean>("cleanUp", { required: true });
const hours = defineModel<number>("hours", { required: true });
const probe = defineModel<string[]>("probe", { required: true });
const live = defineModel<LiveChoices>("live", { required: true });
const notify = defineModel<string[]>("notify", { required: true });
const pace = defineModel<number>("pace", { required: true });
const receivers = useReceivers();
</script>

<template>
  <section>
    <h2>Choices</h2>
    <template v-if="kind === 'test'">
      <p><el-checkbox v-model="syncFirst">Copy the latest changes first</el-checkbox></p>
      <p class="choice">
        <el-checkbox v-model="cleanUp">Clean up by itself after</el-checkbox>
        <el-input-number v-model="hours" :min="0.25" :max="168" :step="1" size="small" :disabled="!cleanUp" aria-label="Hours until cleanup" />
        h
      </p>
      <p v-if="preflight?.services.length" class="choice">
        Probe continuously
        <el-select v-model="probe" multiple filterable collapse-tags size="small" class="several" placeholder="no service" aria-label="Services probed continuously" default-first-option>
          <el-option v-for="one in preflight.services" :key="`${one.service} ${one.workload}`" :value="JSON.stringify(one)" :label="`${one.service} of ${one.workload}`" />
        </el-select>
      </p>
    </template>
    <LiveOptions v-if="(kind === 'planned' || kind === 'disaster') && preflight" v-model="live" :kind="kind" :source="preflight.source_name" :source-lost="preflight.source_lost" />
    <p v-if="receivers.length" class="choice">
      Notify
      <el-select v-model="notify" multiple collapse-tags size="small" class="several" placeholder="nobody" aria-label="Who is notified of it" filterable default-first-option>
        <el-option v-for="one in receivers" :key="one.value" :value="one.value" :label="one.label" />
      </el-select>
    </p>
    <p v-if="preflight?.practice" class="choice">
      Pace
      <el-input-number v-model="pace" :min="1" :max="1000" :precision="0" size="small" aria-label="Pace" />
      times real speed
    </p>
  </section>
</template>

<style scoped>
h2 {
  margin: var(--gap-2) 0;
  color: var(--ink-1);
}
.several {
  width: 180px;
}
.choice {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 6px;
  margin: 5px 0;
}
</style>
