<script setup lang="ts">
// From which moment a run starts: one for all groups, or apart.
import { computed, defineAsyncComponent } from "vue";
import GroupPointsChoice from "@/features/runs/GroupPointsChoice.vue";
import type { StartPoints } from "@/features/runs/startPoints";
import { list, moment } from "@/ui/format";

const PointTimeline = defineAsyncComponent(() => import("@/ui/PointTimeline.vue"));
const props = defineProps<{ from: StartPoints; takes: boolean }>();
const { points, moment: picked, groups: own, workloads: single, at, chosen, later, hint, choose } = props.from;
const apart = computed(() => Object.keys(own.value).length > 0);
</script>

<template>
  <section v-if="points">
    <h2>
      From which moment?
      <span class="plain">{{ apart ? "Groups of different moments." : points.groups.length === 1 ? "One group, one moment." : `One moment for all ${points.groups.length} groups.` }}</span>
      <template v-if="hint">
        <span class="plain bad">▲ Unusual changes on {{ hint.group }}.</span>
        <button class="link" @click="picked = new Date(hint.point.at).getTime()">Take {{ moment(hint.point.at, true) }}, the newest point before them</button>
      </template>
      <button v-if="picked !== null || apart" class="link" @click="choose(null)">Take the newest</button>
    </h2>
    <template v-if="takes">
      <div class="timeline"><PointTimeline :groups="points.groups" :now="points.now" :at="at" :newest="picked === null" :chosen="chosen" @pick="choose" /></div>
      <GroupPointsChoice v-model="own" v-model:apart="single" :groups="points.groups" :chosen="chosen" />
      <p v-if="apart" class="bad">▲ What these groups wrote to each other between the moments may not fit together.</p>
      <p v-if="later.length" class="bad">{{ list(later.map((group) => group.name)) }} {{ later.length === 1 ? "has" : "have" }} no point so old; the oldest is taken, which is later than the rest.</p>
    </template>
    <p v-else class="under">The latest changes are copied first, so the copies are of the moment when that is done.</p>
  </section>
</template>

<style scoped>
.timeline {
  min-height: 256px;
}
h2 {
  margin: var(--gap-2) 0;
  color: var(--ink-1);
}
h2 .plain {
  font-weight: 400;
  margin-right: 6px;
}
h2 .link {
  font-weight: 600;
  margin-left: 6px;
}
</style>
