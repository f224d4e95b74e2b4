<script setup lang="ts">
import { ref } from "vue";
import { useRouter } from "vue-router";
import { kinds } from "@/features/evidence/words";

const props = defineProps<{ run: number; others: number[]; kind: string }>();
const router = useRouter();
const other = ref("");
const compare = () => other.value && router.push(`/runs/${props.run}/compared/${other.value}`);
</script>

<template>
  <form v-if="others.length" class="line" @submit.prevent="compare">
    <el-select v-model="other" placeholder="choose …" :empty-values="['', null, undefined]" class="entry" aria-label="Other run" filterable default-first-option>
      <el-option v-for="one in others" :key="one" :value="String(one)" :label="`run ${one}`" />
    </el-select>
    <el-button class="btn" :disabled="!other" native-type="submit">Compare</el-button>
  </form>
  <p v-else class="quiet">It is the only {{ (kinds[kind] ?? kind).toLowerCase() }} of this plan.</p>
</template>

<style scoped>
.line {
  display: flex;
  gap: var(--gap-2);
}
</style>
