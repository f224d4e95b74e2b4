<script setup lang="ts">
// The names of a cue: what each leads to when the plan has come up, at either end.
import { computed } from "vue";
import type { Cue, Plan } from "@/api/types";
import { useDoors } from "@/features/plans/doors";

type Names = NonNullable<Cue["names"]>;
type NameOf = Names["records"][number];
const TYPES: NameOf["type"][] = ["A", "AAAA", "CNAME", "PTR", "SRV"];
const WANTS: Record<NameOf["type"], string> = { A: "203.0.113.10", AAAA: "2001:db8::10", CNAME: "front.tidewell.example", PTR: "web.tidewell.example", SRV: "10 5 443 web.tidewell.example" };
const props = defineProps<{ plan: Plan; members: string[]; here: string }>();
const names = defineModel<Names>({ required: true });
const ends = computed(() => [props.plan.target, props.plan.source]);
const known = useDoors(() => props.plan);
const doors = computed(() => [...new Set([...known.value.map((door) => door.name), ...names.value.records.map((one) => one.door).filter(Boolean)])]);
const leadsToAddress = (one: NameOf) => one.type === "A" || one.type === "AAAA";

function add() {
  names.value.records.push({ name: "", type: "A", workload: props.here, door: "", at: {}, ttl_s: 60 });
}
function turn(one: NameOf, type: NameOf["type"]) {
  one.type = type;
  if (!leadsToAddress(one)) one.workload = one.door = "";
}
/** A front door is told from a workload by a sign that no name of either has. */
const DOOR = "∩";
const aim = (one: NameOf) => (one.door ? DOOR + one.door : one.workload);
function lead(one: NameOf, to: string) {
  one.door = to.startsWith(DOOR) ? to.slice(DOOR.length) : "";
  one.workload = one.door ? "" : to;
  if (to) one.at = {};
}
function say(one: NameOf, site: string, text: string) {
  const values = (one.type === "SRV" ? text.split(",") : text.split(/[\s,]+/)).map((value) => value.trim()).filter(Boolean);
  one.at = Object.fromEntries([...Object.entries(one.at).filter(([code]) => code !== site), ...(values.length ? [[site, values] as const] : [])]);
}
</script>

<template>
  <fieldset v-for="(one, at) in names.records" :key="at" class="record">
    <legend class="out-of-sight">Name {{ at + 1 }}</legend>
    <div class="two">
      <el-form-item label="Name"><el-input v-model.trim="one.name" class="mono" maxlength="253" placeholder="booking.tidewell.example" required /></el-form-item>
      <el-form-item label="Type"><el-select :model-value="one.type" filterable default-first-option @change="turn(one, $event)"><el-option v-for="type in TYPES" :key="type" :value="type" :label="type" /></el-select></el-form-item>
      <el-form-item v-if="leadsToAddress(one)" label="Leads to">
        <el-select :model-value="aim(one)" filterable default-first-option @change="lead(one, $event)"><el-option value="" label="what is said below" /><el-option v-for="door in doors" :key="DOOR + door" :value="DOOR + door" :label="`${door}, the front door, wherever it opens`" /><el-option v-for="member in members" :key="member" :value="member" :label="`${member}, wherever it landed`" /></el-select>
      </el-form-item>
      <el-form-item label="Clients may hold it for, seconds (TTL)"><el-input v-model.number="one.ttl_s" type="number" min="0" max="86400" /></el-form-item>
      <template v-if="!aim(one)">
        <el-form-item v-for="site in ends" :key="site" :label="`Leads to, at ${site}`"><el-input :model-value="(one.at[site] ?? []).join(', ')" class="mono" :placeholder="WANTS[one.type]" @change="say(one, site, String($event))" /></el-form-item>
      </template>
    </div>
    <button v-if="names.records.length > 1" type="button" class="link" @click="names.records.splice(at, 1)">Take {{ one.name || "this name" }} out</button>
  </fieldset>
  <p><button type="button" class="link" @click="add">Another name</button></p>
  <el-form-item label="All servers of the zone say it within, seconds"><el-input v-model.number="names.limit_s" type="number" min="1" max="86400" /></el-form-item>
  <p><el-checkbox v-model="names.wait_out">It is up for everybody only when nobody can hold an old answer any more</el-checkbox></p>
  <p class="quiet">The zone and the key that changes it stand under <RouterLink to="/settings/names">Settings, Names</RouterLink>. When the run is rolled back, the names lead back. In a test, only the copies hear of them.</p>
</template>

<style scoped>
.record {
  padding: 0 0 var(--gap-2);
  margin: 0 0 var(--gap-2);
  border: 0;
  border-bottom: 1px solid var(--rule);
}
</style>
