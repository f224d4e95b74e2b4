<script setup lang="ts">
// Breaking practice sites on purpose, so that the worst day is not the first time.
import { useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref, watch } from "vue";
import { api, take } from "@/api/client";
import type { Lab, LabSite } from "@/api/types";
import ProblemNote from "@/ui/ProblemNote.vue";
import { count, list } from "@/ui/format";
import { useKeys } from "@/ui/keys";

const client = useQueryClient();
const { data, error } = useQuery({ queryKey: ["lab"], queryFn: () => take(api.GET("/api/v1/practice-lab")) });
const broken = computed(() => (data.value?.sites ?? []).filter((site) => site.sentences.length && site.broken));
const site = ref("");
const preset = ref("boot-hangs");
const subject = ref("");
const times = ref(1);
const atStep = ref("");
const script = ref(`drill: A hard morning\nfaults:\n  - {site: HIL, preset: boot-hangs, subject: db-book-01}\n  - {site: HIL, preset: wrong-answer, subject: web-01, times: 2}\n`);
const scripting = ref(false);
const problem = ref<unknown>(null);
const said = ref("");

watch(data, (now) => {
  if (now && !site.value) site.value = now.sites[1]?.code ?? now.sites[0]?.code ?? "";
});
const chosen = computed(() => data.value?.presets.find((one) => one.key === preset.value));
// A machine is killed at once, and once.
const repeats = computed(() => chosen.value && ["workload", "script", "group"].includes(chosen.value.about) && chosen.value.key !== "machine-killed");
const place = computed(() => data.value?.sites.find((one) => one.code === site.value));
const practised = computed(() => (data.value?.sites ?? []).filter((one) => one.practice));
const presets = computed(() => (data.value?.presets ?? []).filter((one) => place.value?.presets.includes(one.key)));
watch(presets, (now) => {
  if (now.length && !now.some((one) => one.key === preset.value)) preset.value = now[0]!.key;
});
const subjects = computed(() => {
  const here: LabSite | undefined = place.value;
  if (!here) return [];
  return { workload: here.workloads, group: here.groups, link: here.links, pool: here.pools, site: [], script: [] }[chosen.value?.about ?? "site"];
});
watch([preset, site], () => (subject.value = subjects.value[0] ?? ""));
const asks: Record<string, string> = { workload: "Workload", group: "Group", link: "Link to", pool: "Host pool" };
const steps = ["shut-down", "fence", "promote", "register", "power-on", "sync"];

async function act(call: () => Promise<Lab>, done: string) {
  problem.value = null;
  said.value = "";
  try {
    client.setQueryData(["lab"], await call());
    said.value = done;
  } catch (caught) {
    problem.value = caught;
  }
}
const down = (code: string) => act(() => take(api.POST("/api/v1/practice-lab", { body: { site: code, preset: "site-down" } })), "It is down. Its machines have no power.");
const breakIt = () =>
  act(
    () => take(api.POST("/api/v1/practice-lab", { body: { site: site.value, preset: preset.value, subject: subject.value, times: times.value, at_verb: preset.value === "site-down" ? atStep.value : "" } })),
    `${chosen.value?.title} at ${place.value?.name}: done.`,
  );
const allRight = () => act(() => take(api.DELETE("/api/v1/practice-lab")), "All is right again.");
const runScript = () => act(() => take(api.POST("/api/v1/practice-lab/fault-script", { body: { text: script.value } })), "Every fault of the script is set.");
async function load(event: Event) {
  const file = (event.target as HTMLInputElement).files?.[0];
  if (file) script.value = await file.text();
}
useKeys([{ keys: ["R"], label: "Put all right again", run: () => void allRight() }]);
</script>

<template>
  <div class="page">
    <ProblemNote v-if="error && !data" :error="error" />
    <template v-if="data">
      <h1 class="sentence">
        <template v-if="!practised.length">There is no practice site{{ data.sites.length ? "" : ", so there is nothing to break" }}.</template>
        <template v-else-if="broken.length"><b>{{ list(broken.map((one) => one.name)) }}</b> misbehave{{ broken.length === 1 ? "s" : "" }} because somebody wanted it so.</template>
        <template v-else>All {{ count(practised.length, "practice site") }} behave. Break something, and see what a run makes of it.</template>
      </h1>
      <p class="under">Nothing here touches a real site, but for labs whose agents let their machines be killed. What is broken stays so until it is used up, or put right.</p>
      <div class="sites">
        <article v-for="one in data.sites" :key="one.code" :class="{ lost: one.broken?.dark }">
          <h2>{{ one.name }} <span class="mono quiet">{{ one.code }}</span></h2>
          <ul>
            <li v-for="sentence in one.sentences" :key="sentence" class="bad">▲ {{ sentence }}</li>
            <li v-if="!one.practice" class="quiet">Real machines, which may be killed.</li>
            <li v-else-if="!one.sentences.length" class="quiet">✓ behaves</li>
          </ul>
          <el-button v-if="one.broken && !one.broken.dark" v-may="'use-lab'" class="btn danger" @click="down(one.code)">Switch {{ one.name }} off</el-button>
        </article>
      </div>
      <p><el-button v-may="'use-lab'" class="btn main" @click="allRight">Put all right again</el-button> <span role="status" class="quiet">{{ said }}</span></p>
      <ProblemNote v-if="problem" :error="problem" />

      <section>
        <h2>Break something</h2>
        <div class="breaking">
          <el-form-item label="At"><el-select v-model="site" aria-label="Site" filterable default-first-option><el-option v-for="one in data.sites" :key="one.code" :value="one.code" :label="one.name" /></el-select></el-form-item>
          <el-form-item class="wide" label="What"><el-select v-model="preset" filterable aria-label="What goes wrong" default-first-option><el-option v-for="one in presets" :key="one.key" :value="one.key" :label="one.title" /></el-select></el-form-item>
          <el-form-item v-if="subjects.length" :label="`${asks[chosen?.about ?? '']}`"><el-select v-model="subject" filterable :aria-label="asks[chosen?.about ?? '']" default-first-option><el-option v-for="one in subjects" :key="one" :value="one" :label="one" /></el-select></el-form-item>
          <el-form-item v-if="preset === 'site-down'" label="When"><el-select v-model="atStep" aria-label="When" filterable default-first-option>
            <el-option value="" label="now" />
            <el-option v-for="one in steps" :key="one" :value="one" :label="`it is next asked for ${one}`" />
          </el-select></el-form-item>
          <el-form-item v-if="repeats" label="Times"><el-input-number v-model="times" :min="0" :max="1000" :precision="0" aria-label="Times, 0 is always" /></el-form-item>
          <el-button v-may="'use-lab'" class="btn danger" @click="breakIt">Break it</el-button>
        </div>
        <p class="quiet">{{ chosen?.sentence }} <template v-if="repeats && times === 0">Until it is put right.</template></p>
      </section>

      <section>
        <h2>Fault script <button class="link" @click="scripting = !scripting">{{ scripting ? "Close" : "Write or load one …" }}</button></h2>
        <template v-if="scripting">
          <el-input v-model="script" type="textarea" :rows="8" class="mono" aria-label="Fault script" spellcheck="false" />
          <p>
            <el-button v-may="'use-lab'" class="btn" @click="runScript">Set all of it</el-button>
            <input type="file" accept=".yaml,.yml,.json" aria-label="Load a fault script" @change="load" />
          </p>
        </template>
      </section>
    </template>
    <p v-else-if="!error" class="quiet">Asking the practice sites …</p>
  </div>
</template>

<style scoped>
.sites {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(230px, 1fr));
  gap: var(--gap-4);
  margin: var(--gap-4) 0;
}
article {
  border: 1.4px solid var(--ink-1);
  border-radius: var(--radius);
  background: var(--sheet);
  padding: var(--gap-3);
}
article.lost {
  border: 4px double var(--disaster);
}
article ul {
  min-height: 40px;
  margin: 6px 0 10px;
}
section {
  margin-top: var(--gap-5);
}
.breaking {
  display: flex;
  flex-wrap: wrap;
  align-items: end;
  gap: var(--gap-3);
  margin: var(--gap-2) 0;
}
.breaking label {
  display: grid;
  gap: 3px;
  min-width: 150px;
}
.breaking .wide {
  min-width: 280px;
}
.el-textarea {
  width: min(760px, 100%);
}
</style>
