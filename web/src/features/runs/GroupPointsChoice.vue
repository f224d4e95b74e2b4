<script setup lang="ts">
// Another point for one group: the rest stays at the common moment.
import { computed, ref } from "vue";
import type { GroupPoints, RecoveryPoint } from "@/api/types";
import { moment } from "@/ui/format";

const props = defineProps<{ groups: GroupPoints[]; chosen: Record<string, RecoveryPoint | undefined> }>();
const own = defineModel<Record<string, string>>({ required: true });
const open = ref(false);
const MOST = 200;
const newestFirst = computed(() => new Map(props.groups.map((group) => [group.group, [...group.points].reverse().slice(0, MOST)])));
function take(group: string, point: string) {
  own.value = { ...own.value, [group]: point };
}
</script>

<template>
  <p v-if="!open" class="under"><button class="link" @click="open = true">Another point for one group …</button></p>
  <div v-else class="groups">
    <label v-for="group in groups" :key="group.group">
      {{ group.name }}
      <el-select :model-value="chosen[group.group]?.id ?? ''" size="small" filterable :aria-label="`Point of ${group.name}`" @update:model-value="take(group.group, $event)">
        <el-option
          v-for="point in newestFirst.get(group.group)"
          :key="point.id"
          :value="point.id"
          :label="`${moment(point.at, true)}${point.kind === 'application-consistent' ? ' ◆' : ''}${point.label ? ` ⚑ ${point.label}` : ''}`"
        />
      </el-select>
    </label>
  </div>
</template>

<style scoped>
.groups {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(230px, 1fr));
  gap: var(--gap-2) var(--gap-4);
  margin: var(--gap-2) 0;
}
</style>
