<script setup lang="ts">
// A program that is told: where, of what, and how.
import { ref } from "vue";
import { api, take } from "@/api/client";
import type { Topic, WebhookView } from "@/api/types";
import ProblemNote from "@/ui/ProblemNote.vue";
import TopicChoice from "@/ui/TopicChoice.vue";
import { useAct } from "@/ui/act";

const EXAMPLE = '{"text": "{title}: {sentence} {link}"}';
const props = defineProps<{ webhook: WebhookView | null; topics: Topic[] }>();
const open = defineModel<boolean>({ required: true });
const name = ref(props.webhook?.name ?? "");
const url = ref(props.webhook?.url ?? "");
const chosen = ref<string[]>(props.webhook ? [...props.webhook.topics] : props.topics.map((one) => one.code));
const chat = ref(!!props.webhook?.template);
const template = ref(props.webhook?.template || EXAMPLE);
const enabled = ref(props.webhook?.enabled ?? true);
const secret = ref("");
const { problem, busy, act } = useAct();

function save() {
  const body = { name: name.value, url: url.value, topics: chosen.value, template: chat.value ? template.value : "", enabled: enabled.value };
  return act(async () => {
    if (props.webhook) {
      await take(api.PUT("/api/v1/webhooks/{id}", { params: { path: { id: props.webhook.id } }, body }));
      open.value = false;
    } else {
      const made = await take(api.POST("/api/v1/webhooks", { body }));
      secret.value = made.secret;
    }
  });
}
</script>

<template>
  <el-dialog v-model="open" :title="webhook ? `The webhook ${webhook.name}` : 'Add a webhook'" width="min(620px, 96vw)" :close-on-click-modal="false">
    <div v-if="secret" role="status">
      <p>This is the secret that its messages are signed with. It is shown this once.</p>
      <el-input :model-value="secret" readonly class="mono" aria-label="Secret" @focus="($event.target as HTMLInputElement).select()" />
      <p class="after"><el-button class="btn main" @click="open = false">I have it</el-button></p>
    </div>
    <form v-else class="form" @submit.prevent="save">
      <el-form-item label="Name"><el-input v-model="name" required maxlength="80" placeholder="pager" /></el-form-item>
      <el-form-item label="Address"><el-input v-model="url" required maxlength="1000" class="mono" placeholder="https://tools.example/hook" /></el-form-item>
      <h3>What it is told</h3>
      <TopicChoice v-model="chosen" :topics="topics" label="What it is told" />
      <h3>How</h3>
      <el-radio-group v-model="chat" aria-label="How">
        <el-radio :value="false">Signed events, for programs</el-radio>
        <el-radio :value="true">Lines of a chat, by a template</el-radio>
      </el-radio-group>
      <el-form-item v-if="chat" label="Template: JSON with {title}, {sentence}, {link} and {topic}"><el-input v-model="template" type="textarea" :rows="3" class="mono" /></el-form-item>
      <p v-if="webhook"><el-checkbox v-model="enabled">It is told</el-checkbox></p>
      <ProblemNote v-if="problem" :error="problem" />
      <p class="after"><el-button class="btn main" :disabled="busy" native-type="submit">{{ webhook ? "Save it" : "Add it" }}</el-button></p>
    </form>
  </el-dialog>
</template>

<style scoped>
h3 {
  margin: var(--gap-3) 0 var(--gap-1);
  font-size: inherit;
}
.after {
  margin-top: var(--gap-3);
}
</style>
