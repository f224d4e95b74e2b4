<script setup lang="ts">
// What is known to go wrong: read where it matters, written down where it is seen, marked when it is solved.
import { computed, ref } from "vue";
import { api, take } from "@/api/client";
import type { TrapView } from "@/api/types";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAct } from "@/ui/act";
import { moment } from "@/ui/format";
import { NAMES, type Thing } from "@/ui/traps";

/** ``things`` are what a new one may be about; ``run`` the one in which it was seen, or seen to be solved. */
const props = defineProps<{ traps: TrapView[]; things: Thing[]; run?: number }>();
const { problem, busy, act } = useAct();
const writing = ref(false);
const text = ref("");
const chosen = ref(0);
const open = computed(() => props.traps.filter((trap) => !trap.solved_at));
const solved = computed(() => props.traps.filter((trap) => trap.solved_at));
const alone = computed(() => props.things.length === 1);

const add = () =>
  act(async () => {
    const thing = props.things[chosen.value]!;
    await take(api.POST("/api/v1/traps", { body: { ...thing, text: text.value, run: props.run ?? null } }));
    text.value = "";
    writing.value = false;
  });
const solve = (id: number) => act(() => take(api.PUT("/api/v1/traps/{id}/solved", { params: { path: { id } }, body: { run: props.run ?? null } })));
const reopen = (id: number) => act(() => take(api.DELETE("/api/v1/traps/{id}/solved", { params: { path: { id } } })));
</script>

<template>
  <div class="traps">
    <ul>
      <li v-for="trap in open" :key="trap.id" :data-trap="trap.id">
        <span aria-hidden="true">⚑</span> <b v-if="!alone">{{ trap.name }}: </b>{{ trap.text }}
        <p class="quiet">
          {{ trap.by }}, {{ moment(trap.at) }}<template v-if="trap.run">, in <RouterLink :to="`/runs/${trap.run}`">run {{ trap.run }}</RouterLink></template>
          <button v-may="'annotate'" class="link" :disabled="busy" @click="solve(trap.id)">It is solved</button>
        </p>
      </li>
      <li v-for="trap in solved" :key="trap.id" :data-trap="trap.id" class="quiet">
        <span aria-hidden="true">✓</span> <b v-if="!alone">{{ trap.name }}: </b><s>{{ trap.text }}</s>
        <p>
          solved by {{ trap.solved_by }}, {{ moment(trap.solved_at!) }}<template v-if="trap.solved_run">, in <RouterLink :to="`/runs/${trap.solved_run}`">run {{ trap.solved_run }}</RouterLink></template>
          <button v-may="'annotate'" class="link" :disabled="busy" @click="reopen(trap.id)">It is not</button>
        </p>
      </li>
    </ul>
    <button v-if="!writing && things.length" v-may="'annotate'" class="link" @click="writing = true">Add a known trap …</button>
    <form v-if="writing" class="form" @submit.prevent="add">
      <el-form-item label="What must whoever comes next know?"><el-input v-model="text" type="textarea" :rows="2" maxlength="1000" placeholder="Its second disk comes up offline: bring it online." aria-label="The trap" /></el-form-item>
      <el-form-item v-if="!alone" label="It is about"><el-select v-model="chosen" filterable aria-label="What it is about" default-first-option><el-option v-for="(thing, i) in things" :key="i" :value="i" :label="`${NAMES[thing.about]} ${thing.name}`" /></el-select></el-form-item>
      <p class="buttons"><el-button class="btn" :disabled="busy || !text.trim()" native-type="submit">Add it</el-button><el-button class="btn" @click="writing = false">Cancel</el-button></p>
    </form>
    <ProblemNote v-if="problem" :error="problem" />
  </div>
</template>

<style scoped>
li {
  margin-bottom: 6px;
}
li p {
  font-size: var(--text-s);
}
li p .link {
  margin-left: 8px;
}
</style>
