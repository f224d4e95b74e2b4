<script setup lang="ts">
import { useQueryClient } from "@tanstack/vue-query";
import { ref } from "vue";
import { useRouter } from "vue-router";
import { api, take } from "@/api/client";
import type { Plan } from "@/api/types";
import ProblemNote from "@/ui/ProblemNote.vue";
import { count } from "@/ui/format";

const open = defineModel<boolean>({ required: true });
const props = defineProps<{ plan: Plan; versions: number }>();
const router = useRouter();
const client = useQueryClient();
const problem = ref<unknown>(null);
async function retire() {
  problem.value = null;
  try {
    await take(api.DELETE("/api/v1/plans/{code}", { params: { path: { code: props.plan.code } } }));
    await router.push("/");
    await client.invalidateQueries();
  } catch (caught) {
    problem.value = caught;
  }
}
</script>

<template>
  <el-dialog v-model="open" :title="`Retire ${plan.name}?`" width="min(520px, 94vw)">
    <p>It goes with its {{ count(versions, "version") }}; its drills begin no more, and its runs keep what they ran. It can be brought back under <RouterLink to="/settings/retired">Settings</RouterLink>.</p>
    <ProblemNote v-if="problem" :error="problem" />
    <template #footer>
      <el-button class="btn" @click="open = false">Keep it</el-button>
      <el-button class="btn danger" @click="retire">Retire it</el-button>
    </template>
  </el-dialog>
</template>
