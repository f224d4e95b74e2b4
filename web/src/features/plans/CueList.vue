<script setup lang="ts">
// The cues of the plan, a wave or a member, in the order in which they come.
import { computed } from "vue";
import type { Plan } from "@/api/types";
import { CUE_SIGNS, CUE_WORDS, cuesOf, kindOf, type Owner } from "@/features/plans/draft";

const props = defineProps<{ plan: Plan; owner: Owner; what: string }>();
const emit = defineEmits<{ open: [owner: Owner, id: string | null]; edit: [change: (plan: Plan) => void] }>();
const cues = computed(() => cuesOf(props.plan, props.owner));
function earlier(index: number) {
  emit("edit", (next) => {
    const list = cuesOf(next, props.owner);
    list.splice(index - 1, 0, ...list.splice(index, 1));
  });
}
</script>

<template>
  <section class="cues">
    <p v-for="(cue, index) in cues" :key="cue.id" :data-cue="cue.id">
      <span aria-hidden="true" class="sign">{{ CUE_SIGNS[kindOf(cue)] }}</span>
      <button class="link" :title="CUE_WORDS[kindOf(cue)]" @click="emit('open', owner, cue.id)">{{ cue.title || cue.id }}</button>
      <span class="quiet"> {{ cue.at }} {{ what }}</span>
      <button v-if="index" class="link up" :aria-label="`${cue.title} earlier`" title="Earlier" @click="earlier(index)">↑</button>
    </p>
    <button class="link" @click="emit('open', owner, null)">+ cue</button>
  </section>
</template>

<style scoped>
.cues {
  font-size: var(--text-s);
  width: 100%;
}
.cues .link + .quiet {
  margin-left: 4px;
}
.sign {
  color: var(--brass);
  display: inline-block;
  width: 16px;
}
.up {
  margin-left: 6px;
}
</style>
