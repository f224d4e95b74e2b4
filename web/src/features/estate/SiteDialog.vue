<script setup lang="ts">
import { reactive, ref } from "vue";
import { api, take } from "@/api/client";
import { useSession } from "@/api/queries";
import { useAct } from "@/ui/act";
import ProblemNote from "@/ui/ProblemNote.vue";

const open = defineModel<boolean>({ required: true });
const { problem, busy, act } = useAct(() => (open.value = false));
const { data: session } = useSession();
const how = ref<"agent" | "practice">("agent");
const draft = reactive({ code: "", name: "", kind: "datacentre" as const, time_zone: session.value?.time_zone ?? "UTC", agent_url: "", token: "" });

function save() {
  const agent = how.value === "practice" ? { agent_url: "practice", token: "" } : {};
  return act(() => take(api.POST("/api/v1/sites", { body: { ...draft, ...agent } })));
}
</script>

<template>
  <el-dialog v-model="open" title="Register a site" width="min(480px, 94vw)">
    <form class="form" @submit.prevent="save">
      <div class="two">
        <el-form-item label="Code"><el-input v-model="draft.code" class="mono" placeholder="QUA" required /></el-form-item>
        <el-form-item label="Name"><el-input v-model="draft.name" required /></el-form-item>
        <el-form-item label="Kind"><el-select v-model="draft.kind" filterable default-first-option>
          <el-option value="datacentre" label="data centre" />
          <el-option value="cloud" label="cloud region" />
        </el-select></el-form-item>
        <el-form-item label="Time zone"><el-input v-model="draft.time_zone" /></el-form-item>
      </div>
      <p>
        <el-radio v-model="how" value="agent">It has a site agent</el-radio>
        <el-radio v-model="how" value="practice">Simulate it here (practice site)</el-radio>
      </p>
      <template v-if="how === 'agent'">
        <el-form-item label="Address of the agent"><el-input v-model="draft.agent_url" class="mono" placeholder="http://127.0.0.1:8472" required /></el-form-item>
        <el-form-item label="Token"><el-input v-model="draft.token" type="password" autocomplete="off" /></el-form-item>
      </template>
      <p v-else class="quiet">A practice site begins empty and becomes what you write down or bring in for it.</p>
      <ProblemNote v-if="problem" :error="problem" />
      <p class="buttons">
        <el-button v-may="'change-estate'" class="btn main" :disabled="busy" native-type="submit">Register it</el-button>
        <el-button class="btn" @click="open = false">Cancel</el-button>
      </p>
    </form>
  </el-dialog>
</template>
