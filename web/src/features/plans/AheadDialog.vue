<script setup lang="ts">
// What if: the plan as saved beside the draft, with other limits of the site if one likes; what would help
// most; and how good such forecasts were.
import { computed, onMounted, ref, shallowRef, watch } from "vue";
import { api, take } from "@/api/client";
import { useSites } from "@/api/queries";
import { LATER, useJob } from "@/api/job";
import type { AssessmentView, Calibration, Help, Helps, Plan } from "@/api/types";
import IntervalPlot from "@/ui/IntervalPlot.vue";
import JobProgress from "@/ui/JobProgress.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { chance, clock, duration, moment } from "@/ui/format";
import ScoreView from "@/ui/score/ScoreView.vue";

const props = defineProps<{ plan: Plan; saved: Plan; basedOn: number }>();
const open = defineModel<boolean>({ required: true });
const emit = defineEmits<{ take: [plan: Plan] }>();
const { data: sites } = useSites();
const here = computed(() => sites.value?.sites.find((site) => site.code === props.plan.target)?.limits);
const limits = ref({ power: 4, copies: 4, clones: 4 });
const before = shallowRef<AssessmentView | null>(null);
const after = shallowRef<AssessmentView | null>(null);
const helps = ref<Help[] | null>(null);
const known = ref<Calibration | null>(null);
const problem = ref<unknown>(null);
const wanted = useJob();
const asFor = (field: "power" | "copies" | "clones") => here.value?.[field] ?? limits.value[field];
const otherLimits = computed(() => (["power", "copies", "clones"] as const).some((field) => limits.value[field] !== asFor(field)));
const scale = computed(() => Math.max(...[before.value, after.value].map((one) => Math.max(one?.forecast?.p95_s ?? 0, one?.forecast?.objective_s ?? 0))));
const saves = computed(() => (before.value?.forecast && after.value?.forecast ? before.value.forecast.p50_s - after.value.forecast.p50_s : null));

const path = computed(() => ({ path: { code: props.plan.code } }));
const judge = (plan: Plan, with_: typeof limits.value | null) => take(api.POST("/api/v1/plans/{code}/assessment", { params: path.value, body: { plan, based_on: props.basedOn, limits: with_ } }));
let asked = 0;
async function compare() {
  if (!open.value) return;
  const mine = ++asked;
  problem.value = null;
  try {
    const made = await Promise.all([judge(props.saved, null), judge(props.plan, limits.value)]);
    if (mine === asked) [before.value, after.value] = made;
  } catch (caught) {
    if (mine === asked) problem.value = caught;
  }
}
async function ask() {
  helps.value = null;
  const body = { plan: props.plan, based_on: props.basedOn };
  const made = await wanted.made<Helps>(() => take(api.POST("/api/v1/plans/{code}/helps", { params: path.value, headers: LATER, body })));
  if (made) helps.value = made.helps;
}
// It is made when it is opened.
onMounted(async () => {
  if (here.value) limits.value = { ...here.value };
  void compare();
  void ask();
  known.value = await take(api.GET("/api/v1/plans/{code}/calibration", { params: path.value })).catch(() => null);
});
watch(limits, compare, { deep: true });
watch(() => props.plan, () => open.value && (void compare(), void ask()));
function attempt(one: Help) {
  if (one.plan) emit("take", one.plan);
  else limits.value = { power: one.limits.power, copies: one.limits.copies, clones: one.limits.clones };
}
</script>

<template>
  <el-dialog v-model="open" title="What if, and what would help" width="min(1080px, 94vw)" top="5vh">
    <ProblemNote v-if="problem" :error="problem" />
    <p v-if="saves !== null" class="sentence small">
      <template v-if="Math.abs(saves) < 1">The draft takes as long as version {{ basedOn }}<template v-if="!otherLimits">; change it, or the limits below, and both stand here side by side</template>.</template>
      <template v-else>The draft would be back {{ duration(Math.abs(saves)) }} {{ saves > 0 ? "sooner" : "later" }} than version {{ basedOn }}.</template>
    </p>
    <p class="limits">
      At {{ plan.target }} at once:
      <label v-for="[field, words] in ([['power', 'power operations'], ['clones', 'clones'], ['copies', 'copies']] as const)" :key="field"><el-input v-model.lazy.number="limits[field]" type="number" min="1" max="1000" class="entry" :aria-label="`${words} at once`" /> {{ words }}<span v-if="limits[field] !== asFor(field)" class="quiet"> (is {{ asFor(field) }})</span></label>
    </p>
    <div class="pair">
      <section v-for="[words, one, waves] in ([[`Version ${basedOn}, as the site is`, before, 'saved'], ['The draft, with these limits', after, 'draft']] as const)" :key="waves" :data-side="waves">
        <h2>{{ words }}</h2>
        <template v-if="one?.forecast">
          <p>half of all runs within <b>{{ clock(one.forecast.p50_s) }}</b>, 80 % within {{ clock(one.forecast.p80_s) }}, 95 % within {{ clock(one.forecast.p95_s) }}; {{ chance(one.forecast.chance) }} inside the objective</p>
          <IntervalPlot :forecast="one.forecast" :scale="scale" />
          <ScoreView :forecast="one.steps" :waves="one.waves" :objective="one.forecast.objective_s" :likely="one.forecast.p50_s" max-height="230px" />
        </template>
        <p v-else-if="one" class="bad">It could not run as it stands.</p>
        <p v-else class="quiet">Working it out …</p>
      </section>
    </div>
    <h2>What would help most</h2>
    <ProblemNote v-if="wanted.problem.value" :error="wanted.problem.value" />
    <p v-else-if="!helps" class="quiet"><template v-if="wanted.busy.value">Every candidate is worked out: <JobProgress :job="wanted.job.value" @cancel="wanted.stop" /></template><button v-else class="link" @click="ask">Work it out</button></p>
    <p v-else-if="!helps.length">Nothing that was tried saves a second: delays, dependencies, openings and limits are not what decides.</p>
    <table v-else class="lines">
      <tr v-for="one in helps" :key="one.label">
        <td><b>{{ duration(one.saves_s) }}</b> sooner</td>
        <td>{{ one.label }}</td>
        <td class="quiet">80 % within {{ clock(one.p80_s) }}, {{ chance(one.chance) }} inside</td>
        <td><button class="link" @click="attempt(one)">{{ one.plan ? "Take it into the draft" : "Try it above" }}</button></td>
      </tr>
    </table>
    <template v-if="known">
      <h2>How good such forecasts were</h2>
      <p>{{ known.sentence }}</p>
      <table v-if="known.runs.length" class="lines">
        <tr v-for="one in known.runs" :key="one.run">
          <td><RouterLink :to="`/runs/${one.run}`">Run {{ one.run }}</RouterLink> <span class="quiet">{{ moment(one.started_at) }}, {{ one.outcome }}</span></td>
          <td class="mono">forecast {{ clock(one.p10_s) }} to {{ clock(one.p95_s) }}, middle {{ clock(one.p50_s) }}</td>
          <td class="mono" :class="{ bad: !one.inside }">{{ one.inside ? "✓" : "✕" }} took {{ clock(one.took_s) }}</td>
        </tr>
      </table>
    </template>
  </el-dialog>
</template>

<style scoped>
.small {
  font-size: 18px;
}
.limits {
  display: flex;
  flex-wrap: wrap;
  gap: var(--gap-3);
  align-items: center;
  margin: var(--gap-2) 0;
}
.limits .el-input {
  width: 76px;
}
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: var(--gap-4);
}
.pair section {
  min-width: 0;
}
h2 {
  margin: var(--gap-3) 0 var(--gap-1);
}
@media (max-width: 900px) {
  .pair {
    grid-template-columns: 1fr;
  }
}
</style>
