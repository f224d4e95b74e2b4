<script setup lang="ts">
import { ref, watch } from "vue";
import { api, take } from "@/api/client";
import type { Link, SiteView } from "@/api/types";
import { useAct } from "@/ui/act";
import { offerUndo } from "@/ui/undo";
import ProblemNote from "@/ui/ProblemNote.vue";

const props = defineProps<{ link: Link | null; sites: SiteView[] }>();
const open = defineModel<boolean>({ required: true });
const { problem, act } = useAct(() => (open.value = false));
const mbit = ref(1000);
const draft = ref<Link>({ one: "", other: "", bandwidth_bps: 1, latency_ms: 5, loss: 0, windows: [] });
const DAYS = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"] as const;
watch(
  open,
  (now) => {
    if (!now) return;
    problem.value = null;
    draft.value = props.link
      ? JSON.parse(JSON.stringify(props.link))
      : { one: props.sites[0]?.code ?? "", other: props.sites[1]?.code ?? "", bandwidth_bps: 1e9, latency_ms: 5, loss: 0, windows: [] };
    mbit.value = draft.value.bandwidth_bps / 1e6;
  },
  { immediate: true },
);
const save = () => act(() => take(api.PUT("/api/v1/links", { body: { ...draft.value, bandwidth_bps: Math.round(mbit.value * 1e6) } })));
const retire = () =>
  act(async () => {
    await take(api.DELETE("/api/v1/links/{one}/{other}", { params: { path: { one: draft.value.one, other: draft.value.other } } }));
    await offerUndo("link", `${draft.value.one} to ${draft.value.other}`, `The link ${draft.value.one} to ${draft.value.other} is retired.`);
  });
const addWindow = () => draft.value.windows.push({ days: ["mon", "tue", "wed", "thu", "fri"], begins: "08:00", ends: "18:00", share: 0.5 });
</script>

<template>
  <el-dialog v-model="open" :title="link ? `The link ${link.one} to ${link.other}` : 'A new link'" width="min(520px, 94vw)">
    <form class="form" @submit.prevent="save">
      <div v-if="!link" class="two">
        <el-form-item v-for="end in ['one', 'other'] as const" :key="end" :label="`${end === 'one' ? 'Between' : 'and'}`"><el-select v-model="draft[end]" filterable default-first-option>
          <el-option v-for="site in sites" :key="site.code" :value="site.code" :label="`${site.name}`" />
        </el-select></el-form-item>
      </div>
      <div class="three">
        <el-form-item label="Bandwidth, Mbit/s"><el-input v-model.number="mbit" type="number" min="0.001" step="any" /></el-form-item>
        <el-form-item label="Latency, ms"><el-input v-model.number="draft.latency_ms" type="number" min="0" step="any" /></el-form-item>
        <el-form-item label="Loss, share"><el-input v-model.number="draft.loss" type="number" min="0" max="0.99" step="any" /></el-form-item>
      </div>
      <h2>Throttle windows, UTC <button type="button" class="link" @click="addWindow">Add</button></h2>
      <div v-for="(one, index) in draft.windows" :key="index">
        <p>
          <el-checkbox v-for="day in DAYS" :key="day" class="day" :model-value="one.days.includes(day)" @change="one.days = DAYS.filter((other) => (other === day ? $event : one.days.includes(other)))">{{ day }}</el-checkbox>
        </p>
        <div class="line">
          <el-input v-model="one.begins" aria-label="From" class="mono short" /> to <el-input v-model="one.ends" aria-label="To" class="mono short" /> copies get
          <el-input v-model.number="one.share" aria-label="Share" type="number" min="0" max="1" step="any" class="short" /> of it
          <button type="button" class="link" aria-label="Remove window" @click="draft.windows.splice(index, 1)">✕</button>
        </div>
      </div>
      <ProblemNote v-if="problem" :error="problem" />
      <p class="buttons">
        <el-button v-may="'change-estate'" class="btn main" native-type="submit">Save</el-button>
        <el-button v-if="link" v-may="'change-estate'" class="btn danger" @click="retire">Retire</el-button>
        <el-button class="btn" @click="open = false">Cancel</el-button>
      </p>
    </form>
  </el-dialog>
</template>

<style scoped>
.day {
  margin-right: 6px;
}
</style>
