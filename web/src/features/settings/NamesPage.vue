<script setup lang="ts">
// Zones whose names plans change: their servers, their keys, and what they say.
import { useQuery } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { api, take } from "@/api/client";
import type { ZoneTried, ZoneView } from "@/api/types";
import ZoneDialog from "@/features/settings/ZoneDialog.vue";
import PageSkeleton from "@/ui/PageSkeleton.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import SettingsTabs from "@/ui/SettingsTabs.vue";
import { useAct } from "@/ui/act";
import { ago, count, list } from "@/ui/format";
import { vMay } from "@/ui/may";

const { data, error } = useQuery({ queryKey: ["zones"], queryFn: () => take(api.GET("/api/v1/zones")), refetchInterval: 10000 });
const silent = computed(() => (data.value ?? []).filter((one) => one.problem));
const edited = ref<ZoneView | null>(null);
const editing = ref(false);
const tried = ref<{ zone: string; servers: ZoneTried["servers"] } | null>(null);
const { problem, busy, act } = useAct();

function edit(one: ZoneView | null) {
  [edited.value, editing.value] = [one, true];
}
const path = (zone: string) => ({ params: { path: { zone } } });
const tryIt = (zone: string) => act(async () => (tried.value = { zone, servers: (await take(api.POST("/api/v1/zones/{zone}/trial", path(zone)))).servers }));
const remove = (zone: string) => act(() => take(api.DELETE("/api/v1/zones/{zone}", path(zone))));
</script>

<template>
  <div class="page">
    <h1 class="sentence">
      <template v-if="!data">Names that lead to workloads.</template>
      <template v-else-if="!data.length">No plan can change names: no zone is known here.</template>
      <template v-else-if="silent.length">{{ list(silent.map((one) => one.zone)) }} could not be read.</template>
      <template v-else>{{ count(data.length, "zone") }} can be changed when workloads move.</template>
    </h1>
    <p class="under">A name cue of a plan has a name lead to where its workload came up, and back again. Changes are signed with the key of the zone.</p>
    <SettingsTabs />
    <ProblemNote v-if="error" :error="error" />
    <PageSkeleton v-if="!data && !error" :heading="0" :blocks="[80, 160]" />
    <ProblemNote v-if="problem" :error="problem" />
    <template v-if="data">
      <section v-for="zone in data" :key="zone.zone" :aria-label="zone.zone">
        <h2>{{ zone.zone }}</h2>
        <p>
          Changed at <code>{{ zone.primary }}</code> with the key <code>{{ zone.key_name }}</code> ({{ zone.algorithm }})<template v-if="zone.others.length">, shown by <code>{{ zone.others.join(", ") }}</code> as well</template>.
          <template v-if="zone.problem"><span class="bad">✕ {{ zone.problem }}</span></template>
          <template v-else-if="zone.read_at">✓ Read {{ ago(zone.read_at) }}.</template>
          <template v-else>◌ Not read yet.</template>
        </p>
        <p class="acts">
          <button v-may="'change-settings'" class="link" :disabled="busy" :aria-label="`Try it: ${zone.zone}`" @click="tryIt(zone.zone)">Try it</button>
          <button v-may="'change-settings'" class="link" :aria-label="`Change ${zone.zone}`" @click="edit(zone)">Change</button>
          <el-popconfirm :title="`Forget ${zone.zone} and its key?`" confirm-button-text="Forget it" cancel-button-text="No" width="260" @confirm="remove(zone.zone)">
            <template #reference><button v-may="'change-settings'" class="link" :aria-label="`Forget ${zone.zone}`">Forget</button></template>
          </el-popconfirm>
        </p>
        <ul v-if="tried?.zone === zone.zone" class="tried" role="status">
          <li v-for="one in tried.servers" :key="one.server" :class="{ bad: !one.well }">{{ one.well ? "✓" : "✕" }} <code>{{ one.server }}</code>: {{ one.said }}</li>
        </ul>
        <div v-if="zone.names.length" class="scroll" tabindex="0">
          <table class="lines">
            <thead>
              <tr><th>Name</th><th>Type</th><th>Leads to now</th><th>Held for</th><th>Since</th></tr>
            </thead>
            <tbody>
              <tr v-for="one in zone.names" :key="one.name + one.type">
                <td class="mono">{{ one.name }}</td>
                <td>{{ one.type }}</td>
                <td class="mono">{{ one.values.join(", ") || "nothing" }}</td>
                <td>{{ one.values.length ? `${one.ttl_s} s` : "" }}</td>
                <td>{{ ago(one.since) }}</td>
              </tr>
            </tbody>
          </table>
        </div>
        <p v-if="zone.used_by.length" class="quiet">Changed by <template v-for="(code, at) in zone.used_by" :key="code">{{ at ? ", " : "" }}<RouterLink :to="`/plans/${code}`">{{ code }}</RouterLink></template>.</p>
        <p v-else class="quiet">No plan changes a name of it yet. Add a cue “Names lead there” to one.</p>
      </section>
      <p class="add"><el-button v-may="'change-settings'" class="btn" @click="edit(null)">Add a zone</el-button></p>
    </template>
    <ZoneDialog v-if="editing" v-model="editing" :zone="edited" />
  </div>
</template>

<style scoped>
h2 {
  margin: var(--gap-4) 0 var(--gap-1);
}
.acts .link {
  margin-right: var(--gap-3);
}
.tried {
  padding: 0;
  list-style: none;
}
.add {
  margin-top: var(--gap-4);
}
code {
  overflow-wrap: anywhere;
}
</style>
