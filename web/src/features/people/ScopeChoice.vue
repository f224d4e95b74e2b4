<script setup lang="ts">
// What a role is given for: everything, or some sites, plans, and plans with a tag.
import { computed } from "vue";
import { usePlans, useSites } from "@/api/queries";
import type { Scope } from "@/api/types";

const scope = defineModel<Scope | undefined>({ required: true });
defineProps<{ role: string }>();
const { data: plans } = usePlans();
const { data: sites } = useSites();
const tags = computed(() => [...new Set((plans.value?.plans ?? []).flatMap((plan) => plan.tags))].sort());
const KINDS = ["sites", "plans", "tags"] as const;
const chosen = computed({
  get: () => KINDS.flatMap((kind) => (scope.value?.[kind] ?? []).map((name) => `${kind}:${name}`)),
  set: (all: string[]) => {
    const of = (kind: string) => all.filter((one) => one.startsWith(`${kind}:`)).map((one) => one.slice(kind.length + 1));
    scope.value = { sites: of("sites"), plans: of("plans"), tags: of("tags") };
  },
});
</script>

<template>
  <el-select v-model="chosen" multiple filterable size="small" class="scope" placeholder="for everything" :aria-label="`What ${role} is for`">
    <el-option-group label="Sites">
      <el-option v-for="site in sites?.sites ?? []" :key="site.code" :value="`sites:${site.code}`" :label="site.name" />
    </el-option-group>
    <el-option-group label="Plans">
      <el-option v-for="plan in plans?.plans ?? []" :key="plan.code" :value="`plans:${plan.code}`" :label="plan.name" />
    </el-option-group>
    <el-option-group v-if="tags.length" label="Plans with a tag">
      <el-option v-for="tag in tags" :key="tag" :value="`tags:${tag}`" :label="`tagged ${tag}`" />
    </el-option-group>
  </el-select>
</template>

<style scoped>
.scope {
  width: 260px;
  margin-left: var(--gap-2);
}
</style>
