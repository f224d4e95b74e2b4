<script setup lang="ts">
import { reactive, ref } from "vue";
import { api, take } from "@/api/client";
import type { components } from "@/api/schema";
import { useAct } from "@/ui/act";
import { moment } from "@/ui/format";
import ProblemNote from "@/ui/ProblemNote.vue";
import AgentFields from "@/features/estate/AgentFields.vue";

const open = defineModel<boolean>({ required: true });
const props = defineProps<{ site: components["schemas"]["SiteView"] }>();
const how = ref<"token" | "code">("token");
const draft = reactive({ agent_url: props.site.agent_url, token: "", enrolment: "", certificate: props.site.certificate });
const replaced = ref(false);
const { problem, busy, act } = useAct(() => (open.value = false));
const token = useAct(() => (replaced.value = true));

function save() {
  const { enrolment, ...rest } = draft;
  const body = how.value === "code" ? { ...rest, token: "", enrolment } : { ...rest, enrolment: "" };
  return act(() => take(api.PUT("/api/v1/sites/{code}/agent", { params: { path: { code: props.site.code } }, body })));
}

const another = () => token.act(() => take(api.POST("/api/v1/sites/{code}/agent/token", { params: { path: { code: props.site.code } } })));
</script>

<template>
  <el-dialog v-model="open" :title="`The agent of ${site.name}`" width="min(520px, 94vw)">
    <form class="form" @submit.prevent="save">
      <p class="quiet plain">It is looked for before anything is kept; groups, plans and runs stay as they are.<template v-if="site.certificate_until"> The certificate that is trusted is good until {{ moment(site.certificate_until, true) }}.</template></p>
      <AgentFields v-model="draft" v-model:how="how" known />
      <ProblemNote v-if="problem || token.problem.value" :error="problem || token.problem.value" />
      <p v-if="replaced" role="status">✓ Its agent gave a new token; the old one is good no more.</p>
      <p class="buttons">
        <el-button v-may="'change-estate'" class="btn main" :disabled="busy" native-type="submit">Save</el-button>
        <el-button v-if="!site.practice" v-may="'change-estate'" class="btn" :disabled="token.busy.value" @click="another">Replace its token</el-button>
        <el-button class="btn" @click="open = false">Cancel</el-button>
      </p>
    </form>
  </el-dialog>
</template>
