<script setup lang="ts">
// What somebody asked for that takes its time, and what was made of it.
import { useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed } from "vue";
import { api, take } from "@/api/client";
import { cancelJob, isOpen, resultOf } from "@/api/job";
import { useAct } from "@/ui/act";
import ProblemNote from "@/ui/ProblemNote.vue";
import PageSkeleton from "@/ui/PageSkeleton.vue";
import { count, moment, size } from "@/ui/format";
import { progressOf } from "@/ui/jobs";

const client = useQueryClient();
const { data, error } = useQuery({
  queryKey: ["jobs"],
  queryFn: () => take(api.GET("/api/v1/jobs")),
  refetchInterval: (query) => (query.state.data?.some(isOpen) ? 1000 : 10_000),
});
const going = computed(() => data.value?.filter(isOpen).length ?? 0);
const { problem, act } = useAct(() => void client.invalidateQueries({ queryKey: ["jobs"] }));
</script>

<template>
  <div class="page">
    <h1 class="sentence">{{ !data ? "Your jobs." : going ? `${count(going, "job")} of yours ${going === 1 ? "is" : "are"} being done.` : "No job of yours is being done." }}</h1>
    <p class="under">Reports, archives, exports, imports, rehearsals: what takes its time is done by workers, also when you leave the page. What they made is kept here for a day.</p>
    <ProblemNote v-if="error || problem" :error="problem ?? error" />
    <PageSkeleton v-if="!data && !error" :heading="0" :blocks="[240]" />
    <table v-if="data?.length" class="lines">
      <thead>
        <tr>
          <th>Asked</th>
          <th>What</th>
          <th>How far it is</th>
          <th>Made</th>
          <th><span class="out-of-sight">What can be done</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="job in data" :key="job.id">
          <td>{{ moment(job.asked_at) }}</td>
          <td>{{ job.about }}</td>
          <td :class="{ bad: job.state === 'failed' }">{{ progressOf(job) }}<template v-if="job.problem">: {{ job.problem }}</template></td>
          <td>{{ job.state === "done" && job.file ? `${job.file}, ${size(job.size)}` : "" }}</td>
          <td>
            <a v-if="job.state === 'done' && job.file" class="link" :href="resultOf(job)" download>Download</a>
            <button v-else-if="isOpen(job) && !job.cancelling" class="link" @click="act(() => cancelJob(job))">Cancel</button>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
