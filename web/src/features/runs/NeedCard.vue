<script setup lang="ts">
import { useQuery } from "@tanstack/vue-query";
import { computed, onScopeDispose, ref } from "vue";
import { api, take } from "@/api/client";
import type { RunStatus } from "@/api/types";
import { tellRun } from "@/features/runs/tellRun";
import MarkdownText from "@/ui/MarkdownText.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { clock, list, moment } from "@/ui/format";
import { NAMES, type Thing } from "@/ui/traps";

const props = defineProps<{ need: RunStatus["needs"][number]; run: number; plan: string; kind: string; about: Thing[] }>();
const text = ref("");
const trap = ref(false);
const thing = ref(0);
const judges = computed(() => props.need.kind === "verdict" || props.need.kind === "decision");
const error = ref<unknown>(null);
const busy = ref(false);
const thens: Record<string, string> = { commit: "it commits by itself", "roll-back": "it rolls back by itself", "go-on": "the run goes on by itself", stop: "the whole run is held", abort: "the run is aborted" };
const now = ref(Date.now());
const ticking = window.setInterval(() => (now.value = Date.now()), 1000);
onScopeDispose(() => window.clearInterval(ticking));
const left = computed(() => Math.max((new Date(props.need.ends_at ?? 0).getTime() - now.value) / 1000, 0));

// A disaster can be brought up once more from another point before it is committed.
const asks = computed(() => {
  if (props.need.kind === "failure") return { label: "Reason", placeholder: "Reason, if you skip it" };
  if (props.need.kind === "hold") return { label: "What you saw", placeholder: "What is not right?" };
  return { label: "Notes", placeholder: "Notes: what did you see?" };
});
const changing = ref(false);
const group = ref("");
const point = ref("");
const { data: points } = useQuery({
  queryKey: ["points", computed(() => props.plan)],
  queryFn: () => take(api.GET("/api/v1/plans/{code}/points", { params: { path: { code: props.plan } } })),
  enabled: changing,
  staleTime: Infinity,
});
const held = computed(() => [...(points.value?.groups.find((one) => one.group === group.value)?.points ?? [])].reverse().slice(0, 300));

async function tell(kind: string, more: { verdict?: string; group?: string; point?: string } = {}) {
  busy.value = true;
  error.value = null;
  try {
    if (judges.value && trap.value && text.value.trim()) {
      await take(api.POST("/api/v1/traps", { body: { ...props.about[thing.value]!, text: text.value, run: props.run } }));
      trap.value = false;
    }
    await tellRun(props.run, { kind, step: props.need.step, text: text.value, ...more });
  } catch (problem) {
    error.value = problem;
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <article class="need" :class="need.kind">
    <h3>{{ need.title }}</h3>
    <MarkdownText v-if="need.kind === 'hold'" :text="need.text" />
    <p v-else>{{ need.text }}</p>
    <p v-if="need.kind === 'hold' || need.since" class="quiet small">
      <template v-if="need.kind === 'hold'">{{ need.who.length ? list(need.who) : "Anybody" }} may answer<template v-if="need.answers > 1">; {{ need.answers }} different people must{{ need.agreed.length ? `, and ${list([...need.agreed])} has` : "" }}</template>. </template><template v-if="need.since">Waiting since {{ moment(need.since, true) }}.</template>
    </p>
    <p v-if="need.refused" class="refused" role="status"><b>Not right, says {{ need.refused }}</b><br>What can be done: {{ need.not_right }}</p>
    <p v-if="need.ends_at" class="ends">In {{ clock(left) }} {{ thens[need.then] }}, if nobody answers.</p>
    <el-input v-if="need.kind === 'verdict' || need.kind === 'decision' || need.kind === 'acknowledge' || (need.kind === 'failure' && need.skippable) || (need.kind === 'hold' && need.not_right)" v-model="text" type="textarea" :rows="2" :placeholder="asks.placeholder" :aria-label="asks.label" />
    <p v-if="judges && about.length" class="keep">
      <el-checkbox v-model="trap" :disabled="!text.trim()">Keep this as a known trap of</el-checkbox>
      <el-select v-model="thing" filterable size="small" :disabled="!trap" aria-label="What it is a trap of" default-first-option><el-option v-for="(one, i) in about" :key="i" :value="i" :label="`${NAMES[one.about]} ${one.name}`" /></el-select>
    </p>
    <div class="buttons">
      <template v-if="need.kind === 'verdict'">
        <el-button v-may="'run-tests'" class="btn test" :disabled="busy" @click="tell('verdict', { verdict: 'passed' })">✓ Passed</el-button>
        <el-button v-may="'run-tests'" class="btn danger" :disabled="busy" @click="tell('verdict', { verdict: 'failed' })">✕ Failed</el-button>
        <el-button v-may="'run-tests'" class="btn" :disabled="busy" @click="tell('verdict', { verdict: 'inconclusive' })">? Inconclusive</el-button>
      </template>
      <template v-else-if="need.kind === 'decision'">
        <el-popconfirm :title="`Commit? ${need.final.commit}`" confirm-button-text="Commit, for good" cancel-button-text="Not yet" width="320" @confirm="tell('commit')">
          <template #reference><el-button v-may="'run-live'" class="btn main" :disabled="busy">Commit</el-button></template>
        </el-popconfirm>
        <el-popconfirm :title="`Roll back? ${need.final['roll-back']}`" confirm-button-text="Roll it back" cancel-button-text="Not yet" width="320" @confirm="tell('roll-back')">
          <template #reference><el-button v-may="'run-live'" class="btn danger" :disabled="busy">Roll back</el-button></template>
        </el-popconfirm>
        <el-button v-if="kind === 'disaster'" v-may="'run-live'" class="btn" :disabled="busy" @click="changing = !changing">Another point …</el-button>
      </template>
      <el-button v-else-if="need.kind === 'acknowledge'" v-may="'answer'" class="btn danger" :disabled="busy" @click="tell('answer')">Continue although {{ need.title.split(" ")[0] }} {{ need.title.startsWith("1 ") ? "shutdown is" : "shutdowns are" }} unconfirmed</el-button>
      <template v-else-if="need.kind === 'failure'">
        <el-button v-may="'answer'" class="btn main" :disabled="busy" @click="tell('retry')">{{ need.again }}</el-button>
        <el-button v-if="need.skippable" v-may="'answer'" class="btn" :disabled="busy || !text.trim()" title="Wants a reason" @click="tell('skip')">Skip it</el-button>
      </template>
      <template v-else-if="need.kind === 'hold'">
        <el-button v-may="'answer'" class="btn main" :disabled="busy" @click="tell('answer')">Confirmed, go on</el-button>
        <el-button v-if="need.not_right" v-may="'answer'" class="btn" :disabled="busy || !text.trim()" title="Wants to know what is not right" @click="tell('not-right')">Not right</el-button>
      </template>
      <el-button v-else v-may="kind === 'test' ? 'run-tests' : 'run-live'" class="btn main" :disabled="busy" @click="tell('resume')">Resume</el-button>
    </div>
    <div v-if="changing" class="change">
      <p class="small">The group goes off and comes up again from the point that you choose; what it changed since is discarded.</p>
      <el-select v-model="group" placeholder="Group" :empty-values="['', null, undefined]" aria-label="Group" filterable default-first-option @change="point = ''">
        <el-option v-for="one in points?.groups ?? []" :key="one.group" :value="one.group" :label="`${one.name}`" />
      </el-select>
      <el-select v-model="point" placeholder="Point" :empty-values="['', null, undefined]" aria-label="Point" :disabled="!group" filterable default-first-option>
        <el-option v-for="one in held" :key="one.id" :value="one.id" :label="`${moment(one.at, true)}`" />
      </el-select>
      <el-button v-may="'run-live'" class="btn" :disabled="busy || !point" @click="tell('change-point', { group, point })">Bring it up from there</el-button>
    </div>
    <p v-if="need.kind === 'verdict'" class="quiet small">Each verdict begins the cleanup.</p>
    <ProblemNote v-if="error" :error="error" />
  </article>
</template>

<style scoped>
.need {
  border-left: 4px solid var(--brass);
  background: var(--sheet);
  padding: 8px 12px 10px;
  margin-bottom: var(--gap-2);
}
.need.acknowledge,
.need.failure {
  border-left: 6px double var(--disaster);
}
h3 {
  font-size: var(--text-m);
}
.el-textarea {
  margin-top: 6px;
}
.buttons {
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
  margin-top: 6px;
}
.change .el-select {
  width: 200px;
}
.change {
  display: grid;
  gap: 6px;
  margin-top: 8px;
}
.ends {
  color: var(--brass);
  font-weight: 600;
}
.small {
  font-size: var(--text-s);
  margin-top: 4px;
}
</style>
