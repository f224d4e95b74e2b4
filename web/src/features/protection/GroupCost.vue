<script setup lang="ts">
// What a group would cost on its link and in room, said while one types.
import { useQuery } from "@tanstack/vue-query";
import { computed, ref, watch } from "vue";
import { api, take } from "@/api/client";
import type { Group } from "@/api/types";
import RetentionStrip from "@/features/protection/RetentionStrip.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { duration, rate, size } from "@/ui/format";

const props = defineProps<{ group: Group; isNew: boolean }>();
const settled = ref<Group | null>(null);
let waiting = 0;
watch(
  () => props.group,
  (now) => {
    window.clearTimeout(waiting);
    waiting = window.setTimeout(() => (settled.value = JSON.parse(JSON.stringify(now))), 250);
  },
  { deep: true, immediate: true },
);
const ready = computed(() => !!settled.value?.source && !!settled.value.target && (settled.value.members.length > 0 || settled.value.tag_rule.trim() !== ""));
const { data: cost, error: costError } = useQuery({
  queryKey: ["cost", settled],
  queryFn: () => take(api.POST("/api/v1/group-cost", { body: { group: { ...settled.value!, name: settled.value!.name || "unnamed" } } })),
  enabled: ready,
  retry: false,
  placeholderData: (before) => before,
});
</script>

<template>
  <aside>
    <h2>What it would cost</h2>
    <p v-if="!ready" class="quiet">Choose members, and what it costs is said here before anything is saved.</p>
    <ProblemNote v-else-if="costError" :error="costError" />
    <template v-else-if="cost">
      <p v-for="(one, index) in cost.sentences" :key="one" :class="{ bad: !cost.fits && index === cost.sentences.length - 1 }">{{ one }}</p>
      <div class="bar" role="img" :aria-label="`${rate(cost.others_bps)} of others and ${rate(cost.peak_bps)} of this group on ${rate(cost.room_bps)}`">
        <i class="others" :style="{ width: `${Math.min((cost.others_bps / Math.max(cost.room_bps, 1)) * 100, 100)}%` }" />
        <i class="own" :class="{ over: !cost.fits }" :style="{ width: `${Math.min((cost.peak_bps / Math.max(cost.room_bps, 1)) * 100, 100)}%` }" />
      </div>
      <p class="quiet">▨ other groups {{ rate(cost.others_bps) }} ■ this one in its busiest hour {{ rate(cost.peak_bps) }}; the link has {{ rate(cost.room_bps) }} in its narrowest window</p>
      <p v-if="isNew">
        The first copy is {{ size(cost.copy_bytes) }}<template v-if="cost.first_copy_s === 0">, and is already there</template><template v-else-if="cost.first_copy_s !== null"> and takes about {{ duration(cost.first_copy_s) }} on what others leave of the link</template><span v-else class="bad">, and would never end: the link has nothing left</span>.
      </p>
      <h2>Points it would keep</h2>
      <RetentionStrip :points="cost.points" />
    </template>
    <p v-else class="quiet">Asking the source how fast they change …</p>
  </aside>
</template>

<style scoped>
h2 {
  margin: var(--gap-3) 0 var(--gap-1);
}
p {
  margin-bottom: var(--gap-2);
}
.bar {
  display: flex;
  height: 16px;
  border: 1px solid var(--ink-1);
  overflow: hidden;
}
.others {
  background: repeating-linear-gradient(45deg, var(--ink-3) 0 2px, transparent 2px 6px);
}
.own {
  background: var(--ink-1);
}
.own.over {
  background: var(--disaster);
}
</style>
