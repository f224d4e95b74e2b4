<script setup lang="ts">
// What holds for the whole organisation; how its reports look is beside it.
import { useQuery } from "@tanstack/vue-query";
import { computed, ref, watch } from "vue";
import { api, take } from "@/api/client";
import { asFile } from "@/api/upload";
import SettingsTabs from "@/ui/SettingsTabs.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import RecoveredNote from "@/ui/RecoveredNote.vue";
import { useFormDraft } from "@/ui/formDraft";
import { useAct } from "@/ui/act";
import PageSkeleton from "@/ui/PageSkeleton.vue";

const { data, error } = useQuery({ queryKey: ["settings"], queryFn: () => take(api.GET("/api/v1/settings")), refetchOnWindowFocus: false });
const organisation = ref("");
const zone = ref("UTC");
const words = ref("");
const keep = ref(0);
const based = ref(-1);
// What is typed stays when the logo, or somebody else, changes the rest: then saving says so.
watch(data, (now) => {
  if (!now || based.value !== -1) return;
  [organisation.value, zone.value, words.value, keep.value, based.value] = [now.settings.organisation, now.settings.time_zone, now.settings.words, now.settings.keep_days, now.revision];
}, { immediate: true });
const changed = computed(() => !!data.value && (organisation.value !== data.value.settings.organisation || zone.value !== data.value.settings.time_zone || words.value !== data.value.settings.words || keep.value !== data.value.settings.keep_days));
const form = computed({
  get: () => ({ organisation: organisation.value, zone: zone.value, words: words.value, keep: keep.value }),
  set: (now) => ([organisation.value, zone.value, words.value, keep.value] = [now.organisation, now.zone, now.words, now.keep]),
});
const { recovered, forget, discard } = useFormDraft(() => "organisation", form, computed(() => based.value >= 0));
const ZONES = Intl.supportedValuesOf("timeZone");
const said = ref("");
const { problem, busy, act } = useAct();
async function save() {
  said.value = "";
  await act(async () => {
    const saved = await take(api.PUT("/api/v1/settings", { params: { header: { "If-Match": `"${based.value}"` } }, body: { organisation: organisation.value, time_zone: zone.value, words: words.value, keep_days: keep.value } }));
    based.value = saved.revision;
    forget();
    said.value = "Saved. Reports look like this from now on, those of earlier runs too.";
  });
}
async function logo(file: File | undefined) {
  if (!file) return;
  await act(async () => (based.value = (await take(api.PUT("/api/v1/settings/logo", asFile(file)))).revision));
}
const noLogo = () => act(async () => (based.value = (await take(api.DELETE("/api/v1/settings/logo"))).revision));

const { data: sample, error: none } = useQuery({
  queryKey: ["report-sample", based],
  queryFn: async () => {
    const reply = await fetch("/api/v1/evidence/sample.html");
    if (!reply.ok) throw new Error("none");
    return reply.text();
  },
  enabled: computed(() => based.value >= 0),
  retry: false,
});
</script>

<template>
  <div class="page">
    <h1 class="sentence">
      <template v-if="data">Reports speak <template v-if="data.settings.organisation">in the name of <b>{{ data.settings.organisation }}</b></template><template v-else>in nobody’s name yet</template>; runs are kept {{ data.settings.keep_days ? `${data.settings.keep_days} days` : "for ever" }}.</template>
      <template v-else>Settings of the organisation.</template>
    </h1>
    <p class="under">{{ said || "Set once, for every report. The sealed log never changes with it." }}</p>
    <SettingsTabs />
    <ProblemNote v-if="error && !data" :error="error" />
    <div class="columns">
      <!-- Not before it is known what stands there: what was typed until then would be lost. -->
      <PageSkeleton v-if="!data && !error" :heading="0" :blocks="[520]" />
      <form v-if="data" class="form" @submit.prevent="save">
        <RecoveredNote :recovered="recovered" @discard="discard" />
        <ProblemNote v-if="problem" :error="problem" />
        <el-form-item label="Organisation"><el-input v-model="organisation" maxlength="120" required /></el-form-item>
        <el-form-item label="Time zone"><el-input v-model="zone" list="zones" required /></el-form-item>
        <datalist id="zones"><option v-for="one in ZONES" :key="one" :value="one" /></datalist>
        <p class="quiet">New sites and new drills begin with it.</p>
        <el-form-item label="Words on the first page, in Markdown"><el-input v-model="words" type="textarea" :rows="5" maxlength="4000" placeholder="Who to ask; for whom this is; how it may be passed on." /></el-form-item>
        <el-form-item label="Delete logs of runs after, days (0: never)"><el-input v-model.number="keep" type="number" min="0" max="36500" class="short" /></el-form-item>
        <p class="quiet">Logs older than this are deleted, unless on legal hold. The line of the run in the list and its seal stay.</p>
        <div class="buttons"><el-button v-may="'change-settings'" class="btn main" :disabled="!changed || busy" native-type="submit">Save it</el-button></div>
        <h2>Logo</h2>
        <p v-if="data?.settings.logo"><img :src="`/api/v1/settings/logo?${data.revision}`" alt="The logo of reports" /></p>
        <p><label>PNG or JPEG, up to 512 KiB <input type="file" accept="image/png,image/jpeg" @change="logo(($event.target as HTMLInputElement).files?.[0])" /></label></p>
        <p v-if="data?.settings.logo"><button v-may="'change-settings'" type="button" class="link" @click="noLogo">No logo</button></p>
      </form>
      <section aria-label="Preview">
        <h2>So it looks</h2>
        <p v-if="none" class="quiet">No run has ended yet, so there is nothing to show. <RouterLink to="/">Start a test first.</RouterLink></p>
        <iframe v-else-if="sample" :srcdoc="sample" sandbox="" title="A report as it looks now" />
      </section>
    </div>
  </div>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: 300px minmax(0, 1fr);
  gap: var(--gap-5);
  margin-top: var(--gap-4);
}
iframe {
  width: 100%;
  height: 70vh;
  border: 1px solid var(--rule);
  background: var(--sheet);
}
img {
  max-width: 200px;
  max-height: 64px;
}
@media (max-width: 900px) {
  .columns {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
