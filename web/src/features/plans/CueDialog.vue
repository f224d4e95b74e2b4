<script setup lang="ts">
// One cue: what kind it is, when it comes, and what it does.
import { computed, ref, watch } from "vue";
import { useLibrary } from "@/api/queries";
import type { Cue, Plan } from "@/api/types";
import { CUE_KINDS, CUE_WORDS, type CueKind, cuesOf, kindOf, newCue, type Owner, withKind } from "@/features/plans/draft";
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
  const unnamed = /^(hold|script|probe|pause|notify)-\d+$/.test(cue.value.id) && props.id === null;
  cue.value = { ...withKind(cue.value, to), ...(unnamed ? { id: newCue(props.plan, to).id } : {}) };
  fill();
}
const place = computed(() => (props.owner?.kind === "wave" ? "the wave" : props.owner?.kind === "member" ? props.owner.workload : "the plan"));
const members = computed(() => props.plan.waves.flatMap((wave) => wave.members.map((one) => one.workload)));
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
        <button v-for="one in CUE_KINDS" :key="one" type="button" role="radio" class="btn" :aria-checked="kind === one" :class="{ main: kind === one }" @click="turn(one)">{{ CUE_WORDS[one] }}</button>
      </div>
      <label>Title <input v-model="cue.title" required maxlength="80" /></label>
      <div class="two">
        <label>When <select v-model="cue.at"><option value="before">before {{ place }}</option><option value="after">after {{ place }}</option></select></label>
        <label v-if="kind === 'script' || kind === 'probe'">When it fails <select v-model="cue.on_failure"><option value="ask">the run asks</option><option value="go-on">the run goes on</option><option value="stop">the run is held</option></select></label>
        <span v-else />
      </div>
      <p class="kinds">
        <label v-for="one in (['test', 'planned', 'disaster'] as const)" :key="one" class="check"><input v-model="cue.kinds" type="checkbox" :value="one" /> in a {{ one === "test" ? "test" : `${one} failover` }}</label>
      </p>

      <template v-if="cue.hold">
        <label>What the person is to do (Markdown) <textarea v-model="cue.hold.instruction" rows="4" maxlength="4000" /></label>
        <MarkdownText v-if="cue.hold.instruction.trim()" :text="cue.hold.instruction" class="preview" />
        <div class="two">
          <label>Who may answer, names (nobody named: anybody) <input v-model="who" /></label>
          <span />
          <label>Time limit, min (0: none) <KeptInput :value="cue.hold.limit_s / 60" type="number" min="0" max="10080" step="any" @done="cue.hold.limit_s = Math.round(Number($event) * 60)" /></label>
          <label v-if="cue.hold.limit_s">And then <select v-model="cue.hold.then"><option value="stop">the run is held</option><option value="go-on">it goes on by itself</option><option value="abort">the run is aborted</option></select></label>
        </div>
        <label>What can be done if it is not right (with it, the person may also answer that it is not: the run goes on waiting) <textarea v-model="cue.hold.not_right" rows="2" maxlength="4000" /></label>
      </template>

      <template v-else-if="cue.script">
        <label>Script <select :value="cue.script.script" required @change="chooseScript(($event.target as HTMLSelectElement).value)"><option value="" disabled>choose</option><option v-for="one in library?.scripts ?? []" :key="one.name" :value="one.name">{{ one.name }}: {{ one.note }}</option></select></label>
        <p v-if="library && !library.scripts.length" class="quiet">The library is empty. <RouterLink to="/scripts">Add a script</RouterLink> first.</p>
        <pre v-if="script" class="preview mono">{{ script.text }}</pre>
        <p v-if="script && script.sha256 !== cue.script.sha256" class="bad">▲ The plan took in another text. <button type="button" class="link" @click="chooseScript(script.name)">Take this one in</button></p>
        <div class="two">
          <label>Where it runs <select v-model="cue.script.where"><option value="site">by the agent at {{ plan.target }}</option><option value="guest">inside a guest</option></select></label>
          <label v-if="cue.script.where === 'guest'">In which <select v-model="cue.script.workload"><option v-if="owner?.kind === 'member'" value="">{{ owner.workload }}</option><option v-for="one in members" :key="one">{{ one }}</option></select></label>
          <label v-else>Time limit, seconds <input v-model.number="cue.script.limit_s" type="number" min="1" max="86400" /></label>
          <label v-if="cue.script.where === 'guest'">Time limit, seconds <input v-model.number="cue.script.limit_s" type="number" min="1" max="86400" /></label>
          <label>Exit codes that are success <input v-model="codes" class="mono" pattern="[0-9][0-9 ,]*" /></label>
          <label>Parameters, NAME=value, a line each <textarea v-model="parameters" rows="2" class="mono" /></label>
          <label>Secrets, NAME=name of a secret <textarea v-model="secrets" rows="2" class="mono" :placeholder="library?.secrets.map((one) => one.name).join(', ')" /></label>
        </div>
      </template>

      <template v-else-if="cue.probe">
        <div class="two">
          <label>Asked by <select v-model="cue.probe.protocol"><option value="tcp">a TCP connection</option><option value="http">HTTP, status and text</option><option value="tls">TLS, days that the certificate is good</option><option value="dns">DNS, a name is answered</option></select></label>
          <label>Port <input v-model.number="cue.probe.port" type="number" min="1" max="65535" /></label>
          <label>Of which workload, wherever it landed <select v-model="cue.probe.workload" :disabled="!!cue.probe.address"><option v-if="owner?.kind === 'member'" value="">{{ owner.workload }}</option><option v-for="one in members" :key="one">{{ one }}</option></select></label>
          <label>Or at this address, wherever that is <input v-model.trim="cue.probe.address" class="mono" maxlength="253" /></label>
          <template v-if="cue.probe.protocol === 'http'">
            <label>Path <input v-model="cue.probe.path" class="mono" /></label>
            <label>Status <input v-model.number="cue.probe.status" type="number" min="100" max="599" /></label>
            <label>The answer holds <input v-model="cue.probe.text" /></label>
          </template>
          <label v-else-if="cue.probe.protocol === 'tls'">Good for at least, days <input v-model.number="cue.probe.days" type="number" min="0" max="3660" /></label>
          <label v-else-if="cue.probe.protocol === 'dns'">Name <input v-model.trim="cue.probe.name" class="mono" required /></label>
          <label>Time limit, seconds <input v-model.number="cue.probe.limit_s" type="number" min="1" max="86400" /></label>
        </div>
      </template>

      <label v-else-if="cue.pause">Seconds <input v-model.number="cue.pause.seconds" type="number" min="1" max="86400" /></label>
      <label v-else-if="cue.notify">What everybody who has this open is told <textarea v-model="cue.notify.text" rows="3" maxlength="4000" /></label>
    </form>
    <template #footer>
      <span v-if="missing" class="quiet missing">{{ missing }}</span>
      <button v-if="id !== null" class="btn danger" @click="remove">Take it out</button>
      <button class="btn" @click="emit('close')">Cancel</button>
      <button class="btn main" :disabled="!!missing" @click="save">{{ id === null ? "Add the cue" : "Change the cue" }}</button>
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
