<script setup lang="ts">
import { useProtection } from "@/api/queries";
import LagStrip from "@/features/protection/LagStrip.vue";
import { BAD, SHAPES } from "@/features/protection/conditions";
import ProblemNote from "@/ui/ProblemNote.vue";
import SiteWay from "@/ui/SiteWay.vue";
import { count, duration, rate, size } from "@/ui/format";
import { useKeys } from "@/ui/keys";
import { ref } from "vue";
import { useRouter } from "vue-router";

const router = useRouter();
const find = ref("");
const { data, error } = useProtection(find);
useKeys([{ keys: ["N"], label: "A new group", run: () => void router.push("/protection/new") }]);
</script>

<template>
  <div class="page">
    <ProblemNote v-if="error && !data" :error="error" />
    <template v-if="data">
      <h1 class="sentence">{{ data.sentence }}</h1>
      <p class="under">
        <RouterLink v-may="'change-protection'" to="/protection/new" class="btn">Protect workloads in a new group</RouterLink>
        <el-input v-if="data.all_groups > data.groups.length || find" v-model="find" class="entry" aria-label="Find a group" placeholder="find a group" />
        <span v-if="data.all_groups > data.groups.length" class="quiet">{{ data.groups.length }} of {{ data.all_groups }} groups are shown, those in trouble first.</span>
        <RouterLink v-if="!data.workloads" to="/estate/import" class="btn">Import the estate</RouterLink>
      </p>
      <p v-for="cause in data.causes" :key="cause.cause" class="cause bad">✕ {{ cause.sentence }}</p>
      <div class="scroll">
        <table v-if="data.groups.length" class="lines">
          <thead>
            <tr>
              <th>Group</th>
              <th>Direction</th>
              <th>Status</th>
              <th>Lag over the last day, against its objective</th>
              <th>Changes</th>
              <th>Points</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="group in data.groups" :key="group.code" :data-group="group.code">
              <td>
                <RouterLink :to="`/protection/${group.code}`" class="name">{{ group.name }}</RouterLink>
                <div class="quiet">{{ count(group.members, "workload") }}<span v-if="group.key_missing" class="bad">, key missing</span></div>
              </td>
              <td><SiteWay :source="group.source" :target="group.target" /></td>
              <td class="stands">
                <b :class="{ bad: BAD.has(group.health.condition) }">{{ SHAPES[group.health.condition] }} {{ group.health.condition }}</b>
                <div v-if="!group.health.cause && group.health.condition !== 'healthy'">{{ group.health.sentence }}</div>
                <progress v-if="group.health.condition === 'seeding'" :value="group.seeded_share" max="1" />
              </td>
              <td>
                <LagStrip :lags="group.lags" :every-s="group.lag_every_s" :objective-s="group.policy.rpo_s" />
                <span class="quiet">{{ group.health.condition === "moving" || group.health.condition === "unprotected" ? "not copied now" : `${group.health.lag_s === null ? "no point" : duration(group.health.lag_s)} of ${duration(group.policy.rpo_s)}` }}</span>
              </td>
              <td class="mono nowrap">
                {{ rate(group.change_bps) }}
                <div v-if="group.backlog_bytes > 1e8" class="quiet">{{ size(group.backlog_bytes) }} wait</div>
              </td>
              <td class="mono">{{ group.points }}</td>
            </tr>
          </tbody>
        </table>
      </div>
      <h2 v-if="data.links.length" class="head">Links</h2>
      <table v-if="data.links.length" class="lines links">
        <tr v-for="link in data.links" :key="link.source + link.target">
          <td><SiteWay :source="link.source" :target="link.target" /></td>
          <td>{{ count(link.groups, "group") }}</td>
          <td v-if="link.cut_because" class="bad">✕ {{ link.cut_because }}</td>
          <td v-else>
            <span class="bar" aria-hidden="true"><i :style="{ width: `${Math.min((link.used_bps / Math.max(link.room_bps, 1)) * 100, 100)}%` }" /></span>
            {{ rate(link.used_bps) }} of {{ rate(link.room_bps) }} for copies<span v-if="link.room_bps < link.bandwidth_bps * 0.99" class="quiet"> (the line has {{ rate(link.bandwidth_bps) }})</span>
          </td>
        </tr>
      </table>
      <template v-if="data.gaps.length">
        <h2 class="head">Not covered</h2>
        <table class="lines">
          <tr v-for="gap in data.gaps" :key="gap.workload" :data-gap="gap.workload">
            <td>
              <RouterLink :to="`/estate?open=${gap.workload}`" class="name">{{ gap.workload }}</RouterLink> <span class="mono quiet">{{ gap.site }}</span>
            </td>
            <td :class="{ bad: gap.needed_by.length }">
              {{ gap.reason }}<template v-if="gap.needed_by.length">, and needed by {{ gap.needed_by.slice(0, 4).join(", ") }}<template v-if="gap.needed_by.length > 4"> and {{ gap.needed_by.length - 4 }} more</template></template>
              <span v-if="gap.needs.length" class="quiet">; needs {{ gap.needs.slice(0, 4).join(", ") }}</span>
            </td>
            <td>
              <RouterLink v-if="gap.group" :to="`/protection/${gap.group}`" class="btn">See its group</RouterLink>
              <RouterLink v-else v-may="'change-protection'" :to="`/protection/new?members=${gap.workload}`" class="btn">Protect it</RouterLink>
            </td>
          </tr>
        </table>
      </template>
    </template>
    <p v-else-if="!error" class="quiet">Asking every site …</p>
  </div>
</template>

<style scoped>
.under {
  display: flex;
  gap: var(--gap-2);
  margin-bottom: var(--gap-2);
}
.cause {
  border-left: 5px double var(--disaster);
  padding: 4px 0 4px 12px;
  margin: var(--gap-2) 0;
}
.name {
  font-weight: 700;
  text-decoration: none;
}
.name:hover {
  text-decoration: underline;
}
.scroll {
  overflow-x: auto;
}
.way,
.nowrap {
  white-space: nowrap;
}
.stands {
  max-width: 340px;
}
.head {
  margin-top: var(--gap-4);
}
.bar {
  display: inline-block;
  width: 180px;
  height: 9px;
  border: 1px solid var(--ink-2);
  margin-right: var(--gap-2);
}
.bar i {
  display: block;
  height: 100%;
  background: var(--ink-1);
}
</style>
