<script setup lang="ts">
import { reactive, ref } from "vue";
import { api, take } from "@/api/client";
import { useSession } from "@/api/queries";
import { useAct } from "@/ui/act";
import ProblemNote from "@/ui/ProblemNote.vue";
import AgentFields from "@/features/estate/AgentFields.vue";

const open = defineModel<boolean>({ required: true });
const { problem, busy, act } = useAct(() => (open.value = false));
const { data: session } = useSession();
const how = ref<"agent" | "practice">("agent");
const draft = reactive({ code: "", name: "", kind: "datacentre" as const, time_zone: session.value?.time_zone ?? "UTC" });
const nowhere = { agent_url: "", token: "", enrolment: "", certificate: "" };
const agent = reactive({ ...nowhere });
const trusted = ref<"token" | "code">("token");

function save() {
  const its = how.value === "practice" ? { ...nowhere, agent_url: "practice" } : trusted.value === "code" ? { ...agent, token: "" } : { ...agent, enrolment: "" };
  return act(() => take(api.POST("/api/v1/sites", { body: { ...draft, ...its } })));
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
      <AgentFields v-if="how === 'agent'" v-model="agent" v-model:how="trusted" />
      <p v-else class="quiet">A practice site begins empty and becomes what you write down or bring in for it.</p>
      <ProblemNote v-if="problem" :error="problem" />
      <p class="buttons">
        <el-button v-may="'change-estate'" class="btn main" :disabled="busy" native-type="submit">Register it</el-button>
        <el-button class="btn" @click="open = false">Cancel</el-button>
      </p>
    </form>
  </el-dialog>
</template>
