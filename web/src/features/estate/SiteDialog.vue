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
        <label>Code <input v-model="draft.code" class="mono" placeholder="QUA" required /></label>
        <label>Name <input v-model="draft.name" required /></label>
        <label>
          Kind
          <select v-model="draft.kind">
            <option value="datacentre">data centre</option>
            <option value="cloud">cloud region</option>
          </select>
        </label>
        <label>Time zone <input v-model="draft.time_zone" /></label>
      </div>
      <p>
        <label class="check"><input v-model="how" type="radio" value="agent" /> It has a site agent</label>
        <label class="check"><input v-model="how" type="radio" value="practice" /> Simulate it here (practice site)</label>
      </p>
      <template v-if="how === 'agent'">
        <label>Address of the agent <input v-model="draft.agent_url" class="mono" placeholder="http://127.0.0.1:8472" required /></label>
        <label>Token <input v-model="draft.token" type="password" autocomplete="off" /></label>
      </template>
      <p v-else class="quiet">A practice site begins empty and becomes what you write down or bring in for it.</p>
      <ProblemNote v-if="problem" :error="problem" />
      <p class="buttons">
        <button class="btn main" :disabled="busy">Register it</button>
        <button type="button" class="btn" @click="open = false">Cancel</button>
      </p>
    </form>
  </el-dialog>
</template>
