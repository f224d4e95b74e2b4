<script setup lang="ts">
// A drill: of which plan, when, and what happens then. Its next times are shown while it is filled in.
import { useQuery } from "@tanstack/vue-query";
import { computed, ref, watch } from "vue";
import { api, take } from "@/api/client";
import { useSession } from "@/api/queries";
import type { Drill, DrillView } from "@/api/types";
import { DAYS, PLACES, recurrenceOf, ruleOf, type Recurrence } from "@/features/evidence/rule";
import KeptInput from "@/ui/KeptInput.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import RecoveredNote from "@/ui/RecoveredNote.vue";
import { useFormDraft } from "@/ui/formDraft";
import { useAct } from "@/ui/act";
import { moment } from "@/ui/format";

const props = defineProps<{ plans: { code: string; name: string }[]; of: DrillView | null; plan: string }>();
const open = defineModel<boolean>({ required: true });
const HOUR = 3600;
const { data: session } = useSession();
const here = session.value?.time_zone ?? "UTC";
const zones = Intl.supportedValuesOf("timeZone");

function tomorrow(): string {
  const at = new Date(Date.now() + 86_400_000);
  const two = (n: number) => String(n).padStart(2, "0");
  return `${at.getFullYear()}-${two(at.getMonth() + 1)}-${two(at.getDate())}T20:00`;
}
const fresh = (): Drill => ({
  plan: props.plan || (props.plans[0]?.code ?? ""), name: "Drill", starts: tomorrow(), time_zone: here, rule: "",
  window_s: 4 * HOUR, lasts_s: 4 * HOUR, starts_itself: false, owner: "", remind_days: 3, paused: false, left_out: [],
});
const drill = ref<Drill>(fresh());
const chosen = ref<Recurrence>(recurrenceOf(""));
watch(open, (now) => {
  if (!now) return;
  problem.value = null;
  drill.value = props.of ? { ...props.of.drill, left_out: [...props.of.drill.left_out] } : fresh();
  chosen.value = recurrenceOf(drill.value.rule);
});
const form = computed({
  get: () => ({ ...drill.value, chosen: chosen.value }),
  set: ({ chosen: rule, ...rest }) => ([drill.value, chosen.value] = [rest, rule]),
});
const { recovered, forget, discard } = useFormDraft(() => `drill.${props.of?.id ?? "new"}`, form, open);
watch(() => chosen.value.unit, (unit) => {
  if (unit === "MONTHLY" && chosen.value.place && !chosen.value.days.length) chosen.value.days = ["TU"];
});
const wanted = computed<Drill>(() => ({ ...drill.value, rule: ruleOf(chosen.value) }));
const UNITS = [["once", "Once"], ["DAILY", "Daily"], ["WEEKLY", "Weekly"], ["MONTHLY", "Monthly"], ["YEARLY", "Yearly"], ["own", "By a rule of RFC 5545"]] as const;
const spans = { DAILY: "day", WEEKLY: "week", MONTHLY: "month", YEARLY: "year" };

const { data: tried, error: wrong } = useQuery({
  queryKey: ["drill-try", wanted],
  queryFn: () => take(api.POST("/api/v1/drills/try", { body: wanted.value })),
  enabled: open,
});
const { problem, busy, act } = useAct(() => {
  forget();
  open.value = false;
});
const save = () =>
  act(() =>
    take(
      props.of
        ? api.PUT("/api/v1/drills/{id}", { params: { path: { id: props.of.id } }, headers: { "If-Match": `"${props.of.revision}"` }, body: wanted.value })
        : api.POST("/api/v1/drills", { body: wanted.value }),
    ),
  );
function toggle(day: string) {
  chosen.value.days = chosen.value.days.includes(day) ? chosen.value.days.filter((one) => one !== day) : [...chosen.value.days, day];
}
function setPlace(place: number) {
  chosen.value.place = place;
  chosen.value.days = place ? [chosen.value.days[0] ?? "TU"] : [];
}
const without = (day: string) => (drill.value.left_out = drill.value.left_out.filter((one) => one !== day));
</script>

<template>
  <el-dialog v-model="open" :title="of ? `${of.drill.name} of ${of.plan_name}` : 'A new drill'" width="min(760px, 96vw)">
    <form class="form" @submit.prevent="save">
      <RecoveredNote :recovered="recovered" @discard="discard" />
      <div class="two">
        <el-form-item label="Plan"><el-select v-model="drill.plan" filterable default-first-option><el-option v-for="one in plans" :key="one.code" :value="one.code" :label="one.name" /></el-select></el-form-item>
        <el-form-item label="Name"><el-input v-model="drill.name" maxlength="80" required /></el-form-item>
        <el-form-item label="First time"><el-date-picker v-model="drill.starts" type="datetime" value-format="YYYY-MM-DDTHH:mm" format="D MMM YYYY, HH:mm" required /></el-form-item>
        <el-form-item label="Time zone"><el-input v-model="drill.time_zone" list="zones" required /></el-form-item>
      </div>
      <datalist id="zones"><option v-for="zone in zones" :key="zone" :value="zone" /></datalist>
      <div class="line">
        <el-select v-model="chosen.unit" class="entry unit" aria-label="How often" filterable default-first-option>
          <el-option v-for="[unit, name] in UNITS" :key="unit" :value="unit" :label="`${name}`" />
        </el-select>
        <template v-if="chosen.unit !== 'once' && chosen.unit !== 'own'">
          every <el-input v-model.number="chosen.every" type="number" min="1" max="60" class="short" aria-label="Interval" /> {{ spans[chosen.unit] }}{{ chosen.every === 1 ? "" : "s" }}
        </template>
        <el-input v-if="chosen.unit === 'own'" v-model="chosen.own" class="mono" aria-label="Rule" placeholder="FREQ=MONTHLY;BYDAY=1TU" maxlength="300" />
        <template v-if="chosen.unit === 'MONTHLY'">
          <el-select class="entry unit" aria-label="Day of the month" :model-value="chosen.place" filterable default-first-option @change="setPlace(Number($event))">
            <el-option :value="0" label="on the day of the first time" />
            <el-option v-for="[place, name] in PLACES" :key="place" :value="place" :label="`on the ${name}`" />
          </el-select>
          <el-select v-if="chosen.place" v-model="chosen.days[0]" class="entry unit" aria-label="Weekday" filterable default-first-option><el-option v-for="[day, name] in DAYS" :key="day" :value="day" :label="`${name}`" /></el-select>
        </template>
      </div>
      <p v-if="chosen.unit === 'WEEKLY'" class="days">
        <el-checkbox v-for="[day, name] in DAYS" :key="day" :model-value="chosen.days.includes(day)" @change="toggle(day)">{{ name.slice(0, 3) }}</el-checkbox>
      </p>
      <div class="three">
        <el-form-item label="May begin within, hours"><KeptInput :value="drill.window_s / HOUR" type="number" min="0.25" max="168" step="0.25" @done="drill.window_s = Math.round(Number($event) * HOUR)" /></el-form-item>
        <el-form-item label="Remind days before"><el-input v-model.number="drill.remind_days" type="number" min="0" max="60" /></el-form-item>
        <el-form-item label="Owner"><el-input v-model="drill.owner" maxlength="80" /></el-form-item>
      </div>
      <p><el-checkbox v-model="drill.starts_itself">It starts by itself, as an isolated test; production is not touched</el-checkbox></p>
      <div v-if="drill.starts_itself" class="two">
        <el-form-item label="Taken away after, hours, at the latest"><KeptInput :value="drill.lasts_s / HOUR" type="number" min="0.25" max="168" step="0.25" @done="drill.lasts_s = Math.round(Number($event) * HOUR)" /></el-form-item>
        <p class="quiet">When everything came up, the test has passed; else it is inconclusive and needs a look.</p>
      </div>
      <p><el-checkbox v-model="drill.paused">Paused: no times come, and none is missed</el-checkbox></p>
      <p v-if="drill.left_out.length" class="quiet">
        Left out: <button v-for="day in drill.left_out" :key="day" type="button" class="link day" :aria-label="`Take ${day} in again`" @click="without(day)">{{ day }} ✕</button>
      </p>
    </form>
    <section class="ahead" aria-label="Next times">
      <ProblemNote v-if="wrong" :error="wrong" />
      <template v-else-if="tried">
        <b>{{ tried.in_words }}.</b>
        <template v-if="tried.next.length"> Next, in your own time: <span v-for="(one, i) in tried.next" :key="one.at" class="mono" :class="{ out: one.state === 'left-out' }">{{ moment(one.at) }}<span v-if="one.reason" class="quiet"> ({{ one.reason }})</span><template v-if="i < tried.next.length - 1">, </template></span></template>
        <span v-else class="bad"> No time of it lies ahead.</span>
      </template>
      <ProblemNote v-if="problem" :error="problem" />
    </section>
    <template #footer>
      <el-button class="btn" @click="open = false">Cancel</el-button>
      <el-button v-may="'schedule-drills'" class="btn main" :disabled="busy || !!wrong" @click="save">{{ of ? "Save it" : "Put it on the calendar" }}</el-button>
    </template>
  </el-dialog>
</template>

<style scoped>
.unit {
  width: auto;
}
.form .line .unit {
  width: auto;
}
.days {
  margin-bottom: var(--gap-2);
}
.day {
  margin-right: var(--gap-2);
}
.ahead {
  border-top: 1px solid var(--rule);
  padding-top: var(--gap-2);
  min-height: 68px;
}
.out {
  text-decoration: line-through;
  text-decoration-color: var(--ink-3);
}
</style>
