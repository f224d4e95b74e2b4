<script setup lang="ts">
// What was retired has its place here, and a way back.
import { useQuery } from "@tanstack/vue-query";
import { useRouter } from "vue-router";
import { api, take } from "@/api/client";
import SettingsTabs from "@/ui/SettingsTabs.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAct } from "@/ui/act";
import { count, moment } from "@/ui/format";

const router = useRouter();
const { data, error } = useQuery({ queryKey: ["retired"], queryFn: () => take(api.GET("/api/v1/retired")) });
const { problem, busy, act } = useAct();
const bringBack = (id: number) =>
  act(async () => {
    const { page } = await take(api.POST("/api/v1/retired/{id}/back", { params: { path: { id } } }));
    await router.push(page);
  });
</script>

<template>
  <div class="page">
    <h1 class="sentence">
      <template v-if="data?.length">{{ count(data.length, "thing is", "things are") }} retired.</template>
      <template v-else-if="data">Nothing is retired.</template>
      <template v-else>What was retired.</template>
    </h1>
    <p class="under">Plans come back with all their versions. A group comes back as it was and is copied anew: its points were given up.</p>
    <SettingsTabs />
    <ProblemNote v-if="error" :error="error" />
    <ProblemNote v-if="problem" :error="problem" />
    <table v-if="data?.length" class="lines">
      <thead>
        <tr>
          <th>What</th>
          <th>Name</th>
          <th>Retired</th>
          <th><span class="out-of-sight">What can be done</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in data" :key="one.id" :data-retired="one.name">
          <td>{{ one.kind }}</td>
          <td><b>{{ one.name }}</b></td>
          <td>{{ moment(one.at) }} by {{ one.by }}</td>
          <td><el-button class="btn" :disabled="busy" @click="bringBack(one.id)">Restore</el-button></td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
