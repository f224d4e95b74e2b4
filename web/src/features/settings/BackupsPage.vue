<script setup lang="ts">
// Whether the records would outlive their machine.
import { useQuery } from "@tanstack/vue-query";
import { computed } from "vue";
import { api, take } from "@/api/client";
import StandbySection from "@/features/settings/StandbySection.vue";
import SettingsTabs from "@/ui/SettingsTabs.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import PageSkeleton from "@/ui/PageSkeleton.vue";
import { useAct } from "@/ui/act";
import { moment, size } from "@/ui/format";

const { data, error } = useQuery({
  queryKey: ["backups"],
  queryFn: () => take(api.GET("/api/v1/backups")),
  refetchInterval: (query) => (query.state.data?.wanted_by ? 2000 : 10_000),
});
const { problem, act } = useAct();
const now = () => act(() => take(api.POST("/api/v1/backups")));
const last = computed(() => data.value?.lines.find((line) => !line.trouble));
</script>

<template>
  <div class="page">
    <h1 class="sentence">
      <template v-if="last">The last backup was made {{ moment(last.at) }}.</template>
      <template v-else-if="data">No backup was made yet.</template>
      <template v-else>Backups of what Maestoso knows.</template>
    </h1>
    <p class="under">
      <template v-if="data?.folder">One is made every {{ data.every_hours }} h in <code>{{ data.folder }}</code>, and the newest {{ data.keep }} stay. <template v-if="data.bucket">Each is copied to <code>{{ data.bucket }}</code>. </template></template>
      <template v-else-if="data">None is made by itself: the settings <code>backup_folder</code> and <code>backup_recipient</code> change that. </template>
      By hand on the machine: <code>./maestoso backup</code>. <RouterLink to="/help/operations#backups">How to make, try and restore one</RouterLink>
    </p>
    <SettingsTabs />
    <ProblemNote v-if="error" :error="error" />
    <ProblemNote v-if="problem" :error="problem" />
    <p v-if="data?.trouble" class="warn">▲ {{ data.trouble }}</p>
    <p v-if="data">
      <el-button v-may="'change-settings'" class="btn" :disabled="!data.folder || !!data.wanted_by" :title="data.folder ? '' : 'Settings do not say where to, and for whose key'" @click="now">Back up now</el-button>
      <span v-if="data.wanted_by" class="quiet" role="status"> One is being made, as {{ data.wanted_by }} asked.</span>
    </p>
    <PageSkeleton v-if="!data && !error" :heading="0" :blocks="[240]" />
    <div v-if="data?.lines.length" class="scroll">
      <table class="lines">
        <thead>
          <tr>
            <th>When</th>
            <th>File</th>
            <th>Size</th>
            <th v-if="data.bucket">In the bucket</th>
            <th>Made by</th>
            <th>Opened for a test</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="line in data.lines" :key="line.at">
            <td>{{ moment(line.at) }}</td>
            <td v-if="line.trouble" :colspan="data.bucket ? 3 : 2"><b>None was made.</b> {{ line.trouble }}</td>
            <template v-else>
              <td><code>{{ line.file }}</code></td>
              <td>{{ size(line.size) }}</td>
              <td v-if="data.bucket">{{ line.bucket_at ? `since ${moment(line.bucket_at)}` : line.bucket_trouble || "not yet" }}</td>
            </template>
            <td>{{ line.by }}</td>
            <td>{{ line.tried_at ? moment(line.tried_at) : line.trouble ? "" : "never" }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <StandbySection />
  </div>
</template>

<style scoped>
.warn {
  color: var(--brass);
}
code {
  overflow-wrap: anywhere;
}
</style>
