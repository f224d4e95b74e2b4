<script setup lang="ts">
import { ref } from "vue";
import { api, take } from "@/api/client";
import type { AddressRule, Crosswalk, Readdress, Tried } from "@/api/types";
import { copy } from "@/ui/draft";
import { newRule, words } from "@/features/crosswalks/edit";
import KeptInput from "@/ui/KeptInput.vue";
import ProblemNote from "@/ui/ProblemNote.vue";

const props = defineProps<{ crosswalk: Crosswalk; missing: string[] }>();
const emit = defineEmits<{ edit: [change: (next: Crosswalk) => void] }>();
const SIDES = ["live", "test"] as const;
const ACTIONS: { value: Readdress["action"]; label: string }[] = [
  { value: "keep", label: "keep" },
  { value: "translate", label: "move into" },
  { value: "dhcp", label: "ask DHCP" },
  { value: "table", label: "see the table" },
];
const prefix = ref("");
const texts = ref("");
const tried = ref<Tried[]>([]);
const problem = ref<unknown>(null);

function set(index: number, side: "live" | "test", change: (says: Readdress) => void) {
  emit("edit", (next) => {
    const rule = next.address_rules[index];
    if (rule) change(rule[side]);
  });
}
function add(what: string) {
  const wanted = what.trim();
  if (wanted) emit("edit", (next) => next.address_rules.push(newRule(wanted)));
  prefix.value = "";
}
const copyOver = (rules: (rule: AddressRule, index: number) => boolean) =>
  emit("edit", (next) => next.address_rules.forEach((rule, index) => rules(rule, index) && (rule.test = copy(rule.live))));
const remove = (index: number) => emit("edit", (next) => next.address_rules.splice(index, 1));
const same = (rule: AddressRule) => JSON.stringify(rule.live) === JSON.stringify(rule.test);
async function tryOut() {
  problem.value = null;
  try {
    tried.value = (await take(api.POST("/api/v1/crosswalks/trial", { body: { crosswalk: props.crosswalk, addresses: words(texts.value) } }))).tried;
  } catch (caught) {
    problem.value = caught;
  }
}
</script>

<template>
  <div>
    <p class="bar">
      <el-button class="btn" :disabled="!crosswalk.address_rules.length" @click="copyOver(() => true)">Copy live to test everywhere</el-button>
      <el-checkbox :model-value="crosswalk.new_macs" @change="emit('edit', (next) => (next.new_macs = !next.new_macs))">new MACs at the target (locally administered, always the same for the same adapter)</el-checkbox>
    </p>
    <div class="scroll">
      <table class="lines rules">
        <thead>
          <tr>
            <th>Addresses in</th>
            <th><span class="out-of-sight">Do</span></th>
            <th>are to</th>
            <th>prefix</th>
            <th>gateway</th>
            <th>name servers</th>
            <th>DNS suffix</th>
            <th><span class="out-of-sight">Do</span></th>
          </tr>
        </thead>
        <tbody v-for="(rule, index) in crosswalk.address_rules" :key="index" :data-rule="rule.prefix">
          <tr v-for="side in SIDES" :key="side">
            <td v-if="side === 'live'" rowspan="2">
              <KeptInput class="entry mono prefix" :value="rule.prefix" aria-label="Prefix" @done="emit('edit', (next) => (next.address_rules[index]!.prefix = $event.trim()))" />
            </td>
            <td :class="side">{{ side }}</td>
            <td>
              <el-select class="entry" :model-value="rule[side].action" :aria-label="`What happens, ${side}`" filterable default-first-option @change="set(index, side, (says) => (says.action = $event as Readdress['action']))">
                <el-option v-for="one in ACTIONS" :key="one.value" :value="one.value" :label="`${one.label}`" />
              </el-select>
            </td>
            <td>
              <KeptInput
                v-if="rule[side].action === 'translate' || rule[side].action === 'dhcp'"
                class="entry mono wide"
                :value="rule[side].to ?? ''"
                :aria-label="`Target prefix, ${side}`"
                :placeholder="rule[side].action === 'dhcp' ? 'reserve in …' : 'such as 172.18.4.0/24'"
                @done="set(index, side, (says) => (says.to = $event.trim() || null))"
              />
            </td>
            <template v-if="rule[side].action === 'translate' || rule[side].action === 'keep'">
              <td><KeptInput class="entry mono" :value="rule[side].gateway ?? ''" :aria-label="`Gateway, ${side}`" placeholder="moved along" @done="set(index, side, (says) => (says.gateway = $event.trim() || null))" /></td>
              <td><KeptInput class="entry mono" :value="rule[side].dns.join(' ')" :aria-label="`Name servers, ${side}`" placeholder="as before" @done="set(index, side, (says) => (says.dns = words($event.trim())))" /></td>
              <td><KeptInput class="entry" :value="rule[side].suffix" :aria-label="`DNS suffix, ${side}`" @done="set(index, side, (says) => (says.suffix = $event.trim()))" /></td>
            </template>
            <td v-else colspan="3" class="quiet">{{ rule[side].action === "dhcp" ? "the server gives the rest" : "each adapter has an entry of its own" }}</td>
            <td class="end">
              <button v-if="side === 'live'" class="link" :aria-label="`Remove the rule for ${rule.prefix}`" @click="remove(index)">remove</button>
              <button v-else-if="!same(rule)" class="link" @click="copyOver((_, n) => n === index)">copy live</button>
              <span v-else class="quiet">same</span>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <form class="bar" @submit.prevent="add(prefix)">
      <el-input v-model="prefix" class="entry mono" aria-label="Prefix of a new rule" placeholder="10.20.4.0/24" />
      <el-button class="btn" :disabled="!prefix.trim()" native-type="submit">Add a rule</el-button>
      <span v-if="missing.length">▲ No rule yet: <button v-for="one in missing" :key="one" type="button" class="link mono gap" @click="add(one)">{{ one }}</button></span>
    </form>
    <h2>Try it</h2>
    <form class="bar" @submit.prevent="tryOut">
      <el-input v-model="texts" type="textarea" class="entry mono" :rows="2" aria-label="Addresses to try" placeholder="10.20.4.17 2001:db8:20:4::17" />
      <el-button class="btn" :disabled="!texts.trim()" native-type="submit">See what they become</el-button>
    </form>
    <ProblemNote v-if="problem" :error="problem" />
    <table v-if="tried.length" class="lines tried">
      <tr>
        <th>Address</th>
        <th>Rule</th>
        <th>Live</th>
        <th>Test</th>
      </tr>
      <tr v-for="one in tried" :key="one.before" class="mono">
        <td>{{ one.before }}</td>
        <td>{{ one.rule || "no rule" }}</td>
        <td>{{ one.live || "nothing" }}</td>
        <td>{{ one.test || "nothing" }}</td>
      </tr>
    </table>
  </div>
</template>

<style scoped>
.bar {
  display: flex;
  gap: var(--gap-3);
  align-items: center;
  flex-wrap: wrap;
  margin: var(--gap-3) 0;
}
.check {
  display: inline-flex;
  gap: 6px;
  align-items: center;
}
.scroll {
  overflow-x: auto;
}
.rules td {
  padding: 3px 8px 3px 0;
  vertical-align: middle;
}
.rules tr:first-child td {
  border-bottom: 0;
}
.rules :deep(.el-input) {
  width: 100%;
  min-width: 92px;
}
.rules .prefix,
.rules .wide {
  min-width: 168px;
}
.test {
  color: var(--test);
}
.end {
  white-space: nowrap;
}
.gap {
  margin-right: var(--gap-2);
}
.el-textarea {
  width: min(420px, 100%);
}
.tried {
  max-width: 760px;
}
</style>
