<script setup lang="ts">
// One cue: what kind it is, when it comes, and what it does.
import { computed, ref, watch } from "vue";
import { useLibrary } from "@/api/queries";
import type { Cue, Plan } from "@/api/types";
import { CUE_KINDS, CUE_WORDS, type CueKind, cuesOf, kindOf, newCue, type Owner, withKind } from "@/features/plans/draft";
import DoorChoice from "@/features/plans/DoorChoice.vue";
import { openedBy } from "@/features/plans/doors";
import NameRecords from "@/features/plans/NameRecords.vue";
import KeptInput from "@/ui/KeptInput.vue";
import MarkdownText from "@/ui/MarkdownText.vue";
import { copy } from "@/ui/draft";

const props = defineProps<{ plan: Plan; owner: Owner | null; id: string | null }>();
const emit = defineEmits<{ close: []; edit: [change: (plan: Plan) => void] }>();
const cue = ref<Cue | null>(null);
const parameters = ref("");
const secrets = ref("");
const codes = ref("");
const who = ref("");
const { data: library } = useLibrary(computed(() => !!props.owner));

const lines = (map: Record<string, string>) => Object.entries(map).map(([key, value]) => `${key}=${value}`).join("\n");
const pairs = (text: string) =>
  Object.fromEntries(text.split("\n").filter((line) => line.trim()).map((line) => [line.split("=")[0]?.trim() ?? "", line.split("=").slice(1).join("=").trim()]));

watch(
  () => [props.owner, props.id],
  () => {
    const owner = props.owner;
    if (!owner) return;
    const found = props.id === null ? null : cuesOf(props.plan, owner).find((one) => one.id === props.id);
    cue.value = found ? copy(found) : { ...newCue(props.plan, "hold"), at: owner.kind === "member" ? "after" : "before" };
    fill();
  },
  { immediate: true },
);
function fill() {
  parameters.value = lines(cue.value?.script?.parameters ?? {});
  secrets.value = lines(cue.value?.script?.secrets ?? {});
  codes.value = (cue.value?.script?.ok_codes ?? [0]).join(" ");
  who.value = (cue.value?.hold?.who ?? []).join(" ");
}
const kind = computed(() => (cue.value ? kindOf(cue.value) : "hold"));
function turn(to: CueKind) {
  if (!cue.value) return;
  const unnamed = /^(hold|script|probe|pause|notify|names|doors)-\d+$/.test(cue.value.id) && props.id === null;
  cue.value = { ...withKind(cue.value, to), ...(unnamed ? { id: newCue(props.plan, to).id } : {}) };
  fill();
}
const place = computed(() => (props.owner?.kind === "wave" ? "the wave" : props.owner?.kind === "member" ? props.owner.workload : "the plan"));
const members = computed(() => props.plan.waves.flatMap((wave) => wave.members.map((one) => one.workload)));
const doors = computed(() => openedBy(props.plan));
const script = computed(() => library.value?.scripts.find((one) => one.name === cue.value?.script?.script));
function chooseScript(name: string) {
  const found = library.value?.scripts.find((one) => one.name === name);
  if (cue.value?.script && found) Object.assign(cue.value.script, { script: name, sha256: found.sha256 });
}
const missing = computed(() => {
  const one = cue.value;
  if (!one?.title.trim()) return "Give it a title: it stands on the score and in the run.";
  if (!one.kinds.length) return "Choose at least one kind of run.";
  if (one.hold && !one.hold.instruction.trim()) return "Say what the person is to do.";
  if (one.script && !one.script.script) return "Choose a script.";
  if (one.notify && !one.notify.text.trim()) return "Say what everybody is told.";
  if (one.names?.records.some((record) => !record.name.trim() || (!record.workload && !record.door && !Object.keys(record.at).length))) return "Say every name, and what it leads to.";
  if (one.doors && !one.doors.doors.length) return "Choose at least one front door.";
  return "";
});
function save() {
  const made = cue.value;
  const owner = props.owner;
  if (!made || !owner || missing.value) return;
  if (made.script) {
    Object.assign(made.script, { parameters: pairs(parameters.value), secrets: pairs(secrets.value), ok_codes: codes.value.split(/[\s,]+/).filter(Boolean).map(Number) });
  }
  if (made.hold) made.hold.who = who.value.split(/[\s,]+/).filter(Boolean);
  made.title = made.title.trim();
  emit("edit", (next) => {
    const list = cuesOf(next, owner);
    const at = list.findIndex((one) => one.id === props.id);
    if (at < 0) list.push(made);
    else list[at] = made;
  });
  emit("close");
}
function remove() {
  const owner = props.owner;
  if (!owner) return;
  emit("edit", (next) => {
    const list = cuesOf(next, owner);
    const at = list.findIndex((one) => one.id === props.id);
    if (at >= 0) list.splice(at, 1);
  });
  emit("close");
}
</script>

<template>
  <el-dialog :model-value="!!owner" :title="id === null ? 'A cue' : `Cue ${id}`" width="min(620px, 94vw)" @close="emit('close')">
    <form v-if="cue" class="form" @submit.prevent="save">
      <div class="kinds" role="radiogroup" aria-label="Kind of cue">
        <el-button v-for="one in CUE_KINDS" :key="one" role="radio" class="btn" :aria-checked="kind === one" :class="{ main: kind === one }" @click="turn(one)">{{ CUE_WORDS[one] }}</el-button>
      </div>
      <el-form-item label="Title"><el-input v-model="cue.title" required maxlength="80" /></el-form-item>
      <div class="two">
        <el-form-item label="When"><el-select v-model="cue.at" filterable default-first-option><el-option value="before" :label="`before ${place}`" /><el-option value="after" :label="`after ${place}`" /></el-select></el-form-item>
        <el-form-item v-if="['script', 'probe', 'names', 'doors'].includes(kind)" label="When it fails"><el-select v-model="cue.on_failure" filterable default-first-option><el-option value="ask" label="the run asks" /><el-option value="go-on" label="the run goes on" /><el-option value="stop" label="the run is held" /></el-select></el-form-item>
        <span v-else />
      </div>
      <p class="kinds">
        <el-checkbox v-for="one in (['test', 'planned', 'disaster'] as const)" :key="one" :model-value="cue.kinds.includes(one)" @change="cue.kinds = $event ? [...cue.kinds, one] : cue.kinds.filter((other) => other !== one)">in a {{ one === "test" ? "test" : `${one} failover` }}</el-checkbox>
      </p>

      <template v-if="cue.hold">
        <el-form-item label="What the person is to do (Markdown)"><el-input v-model="cue.hold.instruction" type="textarea" :rows="4" maxlength="4000" /></el-form-item>
        <MarkdownText v-if="cue.hold.instruction.trim()" :text="cue.hold.instruction" class="preview" />
        <div class="two">
          <el-form-item label="Who may answer: names, or role:operator (nobody named: anybody)"><el-input v-model="who" class="mono" /></el-form-item>
          <el-form-item label="Different people who must answer"><el-input-number v-model="cue.hold.answers" :min="1" :max="3" :precision="0" /></el-form-item>
          <span />
          <el-form-item label="Time limit, min (0: none)"><KeptInput :value="cue.hold.limit_s / 60" type="number" min="0" max="10080" step="any" @done="cue.hold.limit_s = Math.round(Number($event) * 60)" /></el-form-item>
          <el-form-item v-if="cue.hold.limit_s" label="And then"><el-select v-model="cue.hold.then" filterable default-first-option><el-option value="stop" label="the run is held" /><el-option value="go-on" label="it goes on by itself" /><el-option value="abort" label="the run is aborted" /></el-select></el-form-item>
        </div>
        <el-form-item label="What can be done if it is not right (with it, the person may also answer that it is not: the run goes on waiting)"><el-input v-model="cue.hold.not_right" type="textarea" :rows="2" maxlength="4000" /></el-form-item>
      </template>

      <template v-else-if="cue.script">
        <el-form-item label="Script"><el-select placeholder="choose" :empty-values="['', null, undefined]" :model-value="cue.script.script" filterable default-first-option @change="chooseScript($event)"><el-option v-for="one in library?.scripts ?? []" :key="one.name" :value="one.name" :label="`${one.name}: ${one.note}`" /></el-select></el-form-item>
        <p v-if="library && !library.scripts.length" class="quiet">The library is empty. <RouterLink to="/scripts">Add a script</RouterLink> first.</p>
        <pre v-if="script" class="preview mono">{{ script.text }}</pre>
        <p v-if="script && script.sha256 !== cue.script.sha256" class="bad">▲ The plan uses another text. <button type="button" class="link" @click="chooseScript(script.name)">Use this one</button></p>
        <div class="two">
          <el-form-item label="Where it runs"><el-select v-model="cue.script.where" filterable default-first-option><el-option value="site" :label="`by the agent at ${plan.target}`" /><el-option value="guest" label="inside a guest" /></el-select></el-form-item>
          <el-form-item v-if="cue.script.where === 'guest'" label="In which"><el-select v-model="cue.script.workload" filterable default-first-option><el-option v-if="owner?.kind === 'member'" value="" :label="`${owner.workload}`" /><el-option v-for="one in members" :key="one" :value="one" :label="`${one}`" /></el-select></el-form-item>
          <el-form-item v-else label="Time limit, seconds"><el-input v-model.number="cue.script.limit_s" type="number" min="1" max="86400" /></el-form-item>
          <el-form-item v-if="cue.script.where === 'guest'" label="Time limit, seconds"><el-input v-model.number="cue.script.limit_s" type="number" min="1" max="86400" /></el-form-item>
          <el-form-item label="Exit codes that are success"><el-input v-model="codes" class="mono" pattern="[0-9][0-9 ,]*" /></el-form-item>
          <el-form-item label="Parameters, NAME=value, a line each"><el-input v-model="parameters" type="textarea" :rows="2" class="mono" /></el-form-item>
          <el-form-item label="Secrets, NAME=name of a secret"><el-input v-model="secrets" type="textarea" :rows="2" class="mono" :placeholder="library?.secrets.map((one) => one.name).join(', ')" /></el-form-item>
        </div>
      </template>

      <template v-else-if="cue.probe">
        <div class="two">
          <el-form-item label="Asked by"><el-select v-model="cue.probe.protocol" filterable default-first-option><el-option value="tcp" label="a TCP connection" /><el-option value="http" label="HTTP, status and text" /><el-option value="tls" label="TLS, days that the certificate is good" /><el-option value="dns" label="DNS, a name is answered" /></el-select></el-form-item>
          <el-form-item label="Port"><el-input v-model.number="cue.probe.port" type="number" min="1" max="65535" /></el-form-item>
          <el-form-item label="Of which workload, wherever it landed"><el-select v-model="cue.probe.workload" :disabled="!!cue.probe.address || !!cue.probe.door" filterable default-first-option><el-option v-if="owner?.kind === 'member'" value="" :label="`${owner.workload}`" /><el-option v-for="one in members" :key="one" :value="one" :label="`${one}`" /></el-select></el-form-item>
          <el-form-item v-if="doors.length || cue.probe.door" label="Or from outside, through the front door"><el-select v-model="cue.probe.door" filterable default-first-option @change="$event && cue.probe && Object.assign(cue.probe, { workload: '', address: '' })"><el-option value="" label="none" /><el-option v-for="one in doors" :key="one" :value="one" :label="`${one}`" /></el-select></el-form-item>
          <el-form-item label="Or at this address, wherever that is"><el-input v-model.trim="cue.probe.address" :disabled="!!cue.probe.door" class="mono" maxlength="253" /></el-form-item>
          <template v-if="cue.probe.protocol === 'http'">
            <el-form-item label="Path"><el-input v-model="cue.probe.path" class="mono" /></el-form-item>
            <el-form-item label="Status"><el-input v-model.number="cue.probe.status" type="number" min="100" max="599" /></el-form-item>
            <el-form-item label="The answer holds"><el-input v-model="cue.probe.text" /></el-form-item>
          </template>
          <el-form-item v-else-if="cue.probe.protocol === 'tls'" label="Good for at least, days"><el-input v-model.number="cue.probe.days" type="number" min="0" max="3660" /></el-form-item>
          <el-form-item v-else-if="cue.probe.protocol === 'dns'" label="Name"><el-input v-model.trim="cue.probe.name" class="mono" required /></el-form-item>
          <el-form-item label="Time limit, seconds"><el-input v-model.number="cue.probe.limit_s" type="number" min="1" max="86400" /></el-form-item>
        </div>
      </template>

      <el-form-item v-else-if="cue.pause" label="Seconds"><el-input v-model.number="cue.pause.seconds" type="number" min="1" max="86400" /></el-form-item>
      <el-form-item v-else-if="cue.notify" label="What everybody who has this open is told"><el-input v-model="cue.notify.text" type="textarea" :rows="3" maxlength="4000" /></el-form-item>
      <DoorChoice v-else-if="cue.doors" v-model="cue.doors" :plan="plan" />
      <NameRecords v-else-if="cue.names" v-model="cue.names" :plan="plan" :members="members" :here="owner?.kind === 'member' ? owner.workload : ''" />
    </form>
    <template #footer>
      <span v-if="missing" class="quiet missing">{{ missing }}</span>
      <el-button v-if="id !== null" class="btn danger" @click="remove">Remove it</el-button>
      <el-button class="btn" @click="emit('close')">Cancel</el-button>
      <el-button class="btn main" :disabled="!!missing" @click="save">{{ id === null ? "Add the cue" : "Change the cue" }}</el-button>
    </template>
  </el-dialog>
</template>

<style scoped>
.kinds {
  display: flex;
  flex-wrap: wrap;
  gap: var(--gap-2);
  margin-bottom: var(--gap-2);
}
.kinds .btn {
  padding: 3px 10px;
  font-weight: 400;
}
.preview {
  max-height: 130px;
  overflow: auto;
  padding: 6px 10px;
  margin: 0 0 var(--gap-2);
  border-left: 3px solid var(--brass);
  background: var(--paper);
  font-size: var(--text-s);
}
.missing {
  margin-right: auto;
  font-size: var(--text-s);
}
</style>
