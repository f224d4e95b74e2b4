<script setup lang="ts">
// What one is told by mail, and when not.
import { useQuery } from "@tanstack/vue-query";
import { ref, watch } from "vue";
import { api, take } from "@/api/client";
import ProblemNote from "@/ui/ProblemNote.vue";
import TopicChoice from "@/ui/TopicChoice.vue";
import { useAct } from "@/ui/act";

const { data } = useQuery({ queryKey: ["my-messages"], queryFn: () => take(api.GET("/api/v1/account/messages")) });
const byMail = ref(true);
const topics = ref<string[]>([]);
const from = ref("");
const to = ref("");
const daily = ref("");
let filled = false;
watch(
  data,
  (now) => {
    if (!now || filled) return;
    const { by_mail, topics: chosen, quiet_from, quiet_to, daily_at } = now.preference;
    [byMail.value, topics.value, from.value, to.value, daily.value, filled] = [by_mail, [...chosen], quiet_from, quiet_to, daily_at, true];
  },
  { immediate: true },
);
const said = ref("");
const { problem, busy, act } = useAct();
async function save() {
  said.value = "";
  await act(async () => {
    await take(api.PUT("/api/v1/account/messages", { body: { by_mail: byMail.value, topics: topics.value, quiet_from: from.value, quiet_to: to.value, daily_at: daily.value } }));
    said.value = "Saved.";
  });
}
</script>

<template>
  <section v-if="data" aria-label="Messages">
    <h2>Messages</h2>
    <p v-if="data.nothing_because" class="quiet">{{ data.nothing_because }}</p>
    <form class="form" @submit.prevent="save">
      <p><el-checkbox v-model="byMail">Write to me{{ data.mail ? `, at ${data.mail}` : "" }}</el-checkbox></p>
      <template v-if="byMail">
        <TopicChoice v-model="topics" :topics="data.topics" label="What you are told" class="topics" />
        <p class="quiet">Of runs that you started, or that somebody named you for, you hear in any case.</p>
        <div class="line">
          <el-form-item label="Quiet from"><el-input v-model="from" class="short" placeholder="22:00" maxlength="5" /></el-form-item>
          <el-form-item label="to"><el-input v-model="to" class="short" placeholder="06:30" maxlength="5" aria-label="Quiet to" /></el-form-item>
          <el-form-item label="What is not urgent once a day, at"><el-input v-model="daily" class="short" placeholder="07:00" maxlength="5" /></el-form-item>
        </div>
        <p class="quiet">Between quiet from and to, by the clock of the organisation, messages wait; not those that you alone can answer.</p>
      </template>
      <p><el-button class="btn" :disabled="busy" native-type="submit">Save what to be told</el-button> <span role="status">{{ said }}</span></p>
      <ProblemNote v-if="problem" :error="problem" />
    </form>
  </section>
</template>

<style scoped>
h2 {
  margin: var(--gap-4) 0 var(--gap-2);
}
.topics {
  margin-left: var(--gap-4);
}
.line {
  display: flex;
  flex-wrap: wrap;
  align-items: flex-end;
  gap: var(--gap-3);
  margin-top: var(--gap-2);
}
</style>
