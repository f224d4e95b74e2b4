<script setup lang="ts">
// The drill calendar: which plan is tested when, what was missed, and when nobody may.
import { useQuery } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { useRoute } from "vue-router";
import { api, take } from "@/api/client";
import { usePlans } from "@/api/queries";
import type { Drill, DrillView } from "@/api/types";
import DrillDialog from "@/features/evidence/DrillDialog.vue";
import EvidenceTabs from "@/features/evidence/EvidenceTabs.vue";
import MonthGrid from "@/features/evidence/MonthGrid.vue";
import { dated, dayIn, dayOf, drillShapes, type Dated } from "@/features/evidence/calendar";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAct } from "@/ui/act";
import { count, duration, moment, readersZone } from "@/ui/format";
import { useKeys } from "@/ui/keys";

const MOST = 12;
const route = useRoute();
const { data: planList } = usePlans();
const { data, error } = useQuery({
  queryKey: ["drills"],
  queryFn: () => take(api.GET("/api/v1/drills")),
});
const { problem, busy, act } = useAct();

const now = new Date();
const from = ref(now.getFullYear() * 12 + now.getMonth());
const months = computed(() => [0, 1].map((i) => ({ year: Math.floor((from.value + i) / 12), month: (from.value + i) % 12 })));
const times = computed(() => (data.value ? dated(data.value) : []));
const closed = computed(() => (data.value?.blackouts ?? []).map((one) => ({ from: Date.parse(one.from_at), to: Date.parse(one.to_at), name: one.blackout.name })));
const day = ref("");
const today = dayOf(now);
const listed = computed(() => (day.value ? times.value.filter((one) => one.day === day.value) : times.value.filter((one) => one.day >= today || one.time.state === "open").slice(0, MOST)));
const missed = computed(() => times.value.filter((one) => one.time.state === "missed").reverse());

const editing = ref(false);
const edited = ref<DrillView | null>(null);
const wanted = computed(() => (typeof route.query.plan === "string" ? route.query.plan : ""));
function edit(view: DrillView | null) {
  edited.value = view;
  editing.value = true;
}
const change = (view: DrillView, drill: Partial<Drill>) =>
  act(() => take(api.PUT("/api/v1/drills/{id}", { params: { path: { id: view.id } }, headers: { "If-Match": `"${view.revision}"` }, body: { ...view.drill, ...drill } })));
const leaveOut = (one: Dated) => change(one.view, { left_out: [...one.drill.left_out, dayIn(one.drill.time_zone, one.time.at)] });
const takeIn = (one: Dated) => change(one.view, { left_out: one.drill.left_out.filter((day) => day !== dayIn(one.drill.time_zone, one.time.at)) });
const remove = (view: DrillView) => act(() => take(api.DELETE("/api/v1/drills/{id}", { params: { path: { id: view.id } } })));

const blackout = ref({ name: "", begins: "", ends: "" });
async function close() {
  await act(() => take(api.POST("/api/v1/blackouts", { body: { ...blackout.value, time_zone: readersZone() } })));
  if (!problem.value) blackout.value = { name: "", begins: "", ends: "" };
}
const reopen = (id: number) => act(() => take(api.DELETE("/api/v1/blackouts/{id}", { params: { path: { id } } })));

const feed = computed(() => (data.value?.feed ? `${window.location.origin}${data.value.feed}` : ""));
const newFeed = () => act(() => take(api.POST("/api/v1/drills/feed")));
const noFeed = () => act(() => take(api.DELETE("/api/v1/drills/feed")));
const copied = ref(false);
async function copy() {
  await navigator.clipboard.writeText(feed.value);
  copied.value = true;
}
function said(one: Dated): string {
  if (one.time.state === "done") return `done, ${one.time.outcome}`;
  if (one.time.state === "open") return "due now";
  if (one.time.state === "ahead") return one.drill.starts_itself ? "starts by itself" : "somebody starts it";
  return `${one.time.state === "missed" ? "missed" : "left out"}: ${one.time.reason}`;
}
const byHand = (one: Dated) => one.time.reason === "left out by hand";
useKeys([
  { keys: ["N"], label: "New drill", run: () => edit(null) },
  { keys: ["ArrowLeft"], label: "Earlier months", run: () => (from.value -= 1) },
  { keys: ["ArrowRight"], label: "Later months", run: () => (from.value += 1) },
  { keys: ["T"], label: "Today", run: () => ([from.value, day.value] = [now.getFullYear() * 12 + now.getMonth(), ""]) },
]);
</script>

<template>
  <div class="page">
    <ProblemNote v-if="error && !data" :error="error" />
    <template v-if="data">
      <h1 class="sentence">{{ data.sentence }}</h1>
      <p class="under">Drills are isolated tests: production is never touched. <el-button v-may="'schedule-drills'" class="btn" @click="edit(null)">New drill …</el-button></p>
      <EvidenceTabs />
      <ProblemNote v-if="problem" :error="problem" />
      <div class="columns">
        <div>
          <div class="move">
            <el-button class="btn" aria-label="Earlier months" @click="from -= 2">‹</el-button>
            <el-button class="btn" aria-label="Later months" @click="from += 2">›</el-button>
            <span class="quiet">○ ahead · ◔ due now · ✓ done · ✕ missed · – left out · hatched: black-out</span>
          </div>
          <div class="months">
            <MonthGrid v-for="one in months" :key="`${one.year}-${one.month}`" :year="one.year" :month="one.month" :times="times" :closed="closed" :chosen="day" @pick="day = day === $event ? '' : $event" />
          </div>
          <h2>Drills</h2>
          <div v-if="data.drills.length" class="scroll" tabindex="0"><table class="lines">
            <thead><tr><th>Drill</th><th>When</th><th>Next</th><th>In a year</th><th><span class="out-of-sight">Do</span></th></tr></thead>
            <tbody>
              <tr v-for="view in data.drills" :key="view.id" :data-drill="view.id">
                <td>
                  <button class="link" @click="edit(view)">{{ view.drill.name }}</button> <RouterLink :to="`/evidence/plans/${view.drill.plan}`">{{ view.plan_name }}</RouterLink>
                  <small v-if="view.drill.owner" class="quiet">{{ view.drill.owner }}</small>
                </td>
                <td>{{ view.in_words }}<small class="quiet">{{ view.drill.starts_itself ? "starts by itself" : "somebody starts it" }} within {{ duration(view.drill.window_s) }}</small></td>
                <td class="mono next">{{ view.drill.paused ? "paused" : view.next_at ? moment(view.next_at) : "none" }}</td>
                <td class="mono">
                  <template v-for="one in view.times.filter((time) => ['done', 'missed', 'open'].includes(time.state)).slice(-12)" :key="one.at">
                    <RouterLink v-if="one.run" :to="`/runs/${one.run}/evidence`" :title="moment(one.at)" class="bare">{{ drillShapes[one.state] }}</RouterLink>
                    <span v-else :class="{ bad: one.state === 'missed' }" :title="`${moment(one.at)}: ${one.reason || one.state}`">{{ drillShapes[one.state] }}</span>
                  </template>
                </td>
                <td>
                  <el-popconfirm :title="`Take ${view.drill.name} off the calendar? Its runs stay.`" confirm-button-text="Take it off" cancel-button-text="No" width="260" @confirm="remove(view)">
                    <template #reference><button class="link" :aria-label="`Take ${view.drill.name} of ${view.plan_name} off`">✕</button></template>
                  </el-popconfirm>
                </td>
              </tr>
            </tbody>
          </table></div>
        </div>
        <aside>
          <h2>{{ day ? day : "Next" }} <button v-if="day" class="link" @click="day = ''">what comes next</button></h2>
          <p v-if="!listed.length" class="quiet">{{ day ? "No drill on this day." : "Nothing lies ahead." }}</p>
          <ul class="times">
            <li v-for="one in listed" :key="`${one.view.id} ${one.time.at}`">
              <span class="mono">{{ moment(one.time.at) }}</span> {{ drillShapes[one.time.state] }} <b>{{ one.planName }}</b>
              <small class="quiet">
                {{ one.drill.name }}, {{ said(one) }}
                <RouterLink v-if="one.time.run" :to="`/runs/${one.time.run}/evidence`">run {{ one.time.run }}</RouterLink>
                <RouterLink v-if="one.time.state === 'open'" :to="`/plans/${one.drill.plan}/start`">Start it</RouterLink>
                <button v-if="one.time.state === 'ahead'" v-may="'schedule-drills'" class="link" :disabled="busy" @click="leaveOut(one)">leave it out</button>
                <button v-if="one.time.state === 'left-out' && byHand(one)" v-may="'schedule-drills'" class="link" :disabled="busy" @click="takeIn(one)">take it in again</button>
              </small>
            </li>
          </ul>
          <template v-if="missed.length && !day">
            <h2>Missed within a year</h2>
            <ul class="times">
              <li v-for="one in missed.slice(0, 5)" :key="`${one.view.id} ${one.time.at}`" class="bad">
                <span class="mono">{{ moment(one.time.at) }}</span> ✕ {{ one.planName }} <small>{{ one.time.reason }}</small>
              </li>
            </ul>
            <p v-if="missed.length > 5" class="quiet">and {{ count(missed.length - 5, "more", "more") }}</p>
          </template>

          <h2>Black-outs</h2>
          <p class="quiet">No drill begins in them.</p>
          <ul>
            <li v-for="one in data.blackouts" :key="one.id">
              {{ one.blackout.name }} <small class="quiet">{{ moment(one.from_at) }} – {{ moment(one.to_at) }}</small>
              <button class="link" :aria-label="`Remove the black-out ${one.blackout.name}`" @click="reopen(one.id)">✕</button>
            </li>
          </ul>
          <form class="form" @submit.prevent="close">
            <el-form-item label="What for"><el-input v-model="blackout.name" maxlength="80" required /></el-form-item>
            <el-form-item label="From"><el-date-picker v-model="blackout.begins" type="datetime" value-format="YYYY-MM-DDTHH:mm" format="D MMM YYYY, HH:mm" required /></el-form-item>
            <el-form-item label="To"><el-date-picker v-model="blackout.ends" type="datetime" value-format="YYYY-MM-DDTHH:mm" format="D MMM YYYY, HH:mm" required /></el-form-item>
            <el-button v-may="'schedule-drills'" class="btn" :disabled="busy" native-type="submit">Add the black-out</el-button> <span class="quiet">{{ readersZone() }}</span>
          </form>

          <h2>In your own calendar</h2>
          <p><a href="/api/v1/drills/calendar.ics" download>As a file (.ics)</a></p>
          <template v-if="feed">
            <p class="quiet">Subscribe to this private address; whoever knows it can read the drills.</p>
            <p class="mono feed" data-testid="feed">{{ feed }}</p>
            <p><button class="link" @click="copy">{{ copied ? "Copied" : "Copy it" }}</button> · <button class="link" @click="newFeed">New address</button> · <button class="link" @click="noFeed">Take it away</button></p>
          </template>
          <p v-else><el-button class="btn" @click="newFeed">Make a private address</el-button></p>
        </aside>
      </div>
    </template>
    <p v-else-if="!error" class="quiet">Laying out the calendar …</p>
    <DrillDialog v-model="editing" :plans="planList?.plans ?? []" :of="edited" :plan="wanted" />
  </div>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 280px;
  gap: var(--gap-5);
  margin-top: var(--gap-3);
}
.move {
  display: flex;
  gap: var(--gap-2);
  align-items: center;
  margin-bottom: var(--gap-2);
}
.months {
  display: grid;
  grid-template-columns: repeat(2, minmax(0, 1fr));
  gap: var(--gap-4);
}
h2 {
  margin: var(--gap-4) 0 var(--gap-1);
}
aside h2:first-child {
  margin-top: 0;
}
.times li {
  padding: 3px 0;
  border-bottom: 1px solid var(--rule-faint);
}
small {
  display: block;
}
.next {
  white-space: nowrap;
}
.bare {
  text-decoration: none;
}
.feed {
  overflow-wrap: anywhere;
  font-size: var(--text-s);
  background: var(--sheet);
  border: 1px solid var(--rule);
  padding: 4px 6px;
}
@media (max-width: 900px) {
  .columns,
  .months {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
