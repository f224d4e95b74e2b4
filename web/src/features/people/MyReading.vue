<script setup lang="ts">
// How one reads: time zone, form of dates, theme.
import { useQueryClient } from "@tanstack/vue-query";
import { computed, ref, watch } from "vue";
import { api, keepCsrf, take } from "@/api/client";
import { useSession } from "@/api/queries";
import type { Reading } from "@/api/types";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAct } from "@/ui/act";
import { exactMoment } from "@/ui/format";
import { forgetTheme, preferTheme } from "@/ui/theme";

const ZONES = Intl.supportedValuesOf("timeZone");
const HERE = Intl.DateTimeFormat().resolvedOptions().timeZone;
const client = useQueryClient();
const { data: session } = useSession();
const chosen = ref<Reading>({ time_zone: "", dates: "words", theme: "" });
watch(
  () => session.value?.reading,
  (now) => now && (chosen.value = { ...now }),
  { immediate: true },
);
const changed = computed(() => JSON.stringify(chosen.value) !== JSON.stringify(session.value?.reading));
const said = ref("");
const { problem, busy, act } = useAct();
async function save() {
  said.value = "";
  await act(async () => {
    const now = await take(api.PUT("/api/v1/account/reading", { body: chosen.value }));
    keepCsrf(now.csrf);
    forgetTheme();
    client.setQueryData(["session"], now);
    preferTheme(now.reading.theme);
    said.value = `Saved. Now it is ${exactMoment(new Date().toISOString())}.`;
  });
}
</script>

<template>
  <section aria-label="How you read">
    <h2>How you read</h2>
    <form class="form" @submit.prevent="save">
      <el-form-item label="Time zone"><el-select v-model="chosen.time_zone" filterable default-first-option>
        <el-option value="" :label="`as this browser: ${HERE}`" />
        <el-option v-for="zone in ZONES" :key="zone" :value="zone" :label="zone" />
      </el-select></el-form-item>
      <el-form-item label="Dates"><el-select v-model="chosen.dates" filterable default-first-option>
        <el-option value="words" label="12 Nov 2026, 03:14" />
        <el-option value="numbers" label="2026-11-12 03:14" />
      </el-select></el-form-item>
      <el-form-item label="Theme"><el-select v-model="chosen.theme" filterable default-first-option>
        <el-option value="" label="as each browser has it" />
        <el-option value="day" label="day" />
        <el-option value="night" label="night" />
      </el-select></el-form-item>
      <p><el-button class="btn" :disabled="busy || !changed" native-type="submit">Save how you read</el-button> <span role="status">{{ said }}</span></p>
      <ProblemNote v-if="problem" :error="problem" />
    </form>
  </section>
</template>

<style scoped>
h2 {
  margin: var(--gap-4) 0 var(--gap-2);
}
.form {
  max-width: 420px;
}
</style>
