<script setup lang="ts">
// Whether a file of evidence is as it was sealed, and with which keys this installation seals.
import { useQuery } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { api, take } from "@/api/client";
import { asFile } from "@/api/upload";
import type { Verification } from "@/api/types";
import EvidenceTabs from "@/features/evidence/EvidenceTabs.vue";
import { kinds } from "@/features/evidence/words";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAct } from "@/ui/act";
import { exactMoment } from "@/ui/format";

const found = ref<Verification | null>(null);
const name = ref("");
const over = ref(false);
const checking = useAct();
async function check(file: File | undefined) {
  over.value = false;
  if (!file) return;
  [found.value, name.value] = [null, file.name];
  await checking.act(async () => (found.value = await take(api.POST("/api/v1/evidence/verify", asFile(file)))));
}
const { data, error } = useQuery({ queryKey: ["seal-keys"], queryFn: () => take(api.GET("/api/v1/evidence/keys")) });
const { problem, busy, act } = useAct();
const rotate = () => act(() => take(api.POST("/api/v1/evidence/keys")));
const script = computed(() => (data.value ? `data:text/x-python;charset=utf-8,${encodeURIComponent(data.value.check)}` : ""));
</script>

<template>
  <div class="page">
    <h1 class="sentence">
      <template v-if="found?.holds">{{ name }} is genuine: {{ found.sentence.charAt(0).toLowerCase() + found.sentence.slice(1) }}</template>
      <template v-else-if="found"><span class="bad">✕ {{ name }} is not to be trusted.</span> {{ found.sentence }}</template>
      <template v-else>Is a file of evidence what it says it is? Every event is checked against the seal.</template>
    </h1>
    <p class="under">Nothing of the file is kept. The same can be done without Maestoso, by the steps below.</p>
    <EvidenceTabs />
    <div class="columns">
      <div>
        <label class="drop" :class="{ over }" @dragover.prevent="over = true" @dragleave="over = false" @drop.prevent="check($event.dataTransfer?.files[0])">
          <span>{{ checking.busy.value ? `Checking ${name} …` : "Drop a file ending in .evidence.jsonl here, or choose it" }}</span>
          <input type="file" aria-label="Evidence file" accept=".jsonl" @change="check(($event.target as HTMLInputElement).files?.[0])" />
        </label>
        <ProblemNote v-if="checking.problem.value" :error="checking.problem.value" />
        <dl v-if="found" data-testid="found">
          <template v-if="found.event"><dt>First event that was altered</dt><dd class="bad">{{ found.event }}</dd></template>
          <template v-if="found.seal">
            <dt>Run</dt>
            <dd>{{ found.seal.number }}, {{ (kinds[found.seal.kind] ?? found.seal.kind).toLowerCase() }} of {{ found.seal.plan_name }}, version {{ found.seal.plan_version }}</dd>
            <dt>Outcome</dt>
            <dd>{{ found.seal.outcome }}</dd>
            <dt>Started</dt>
            <dd>{{ exactMoment(found.seal.started_at) }} by {{ found.seal.started_by }}</dd>
            <dt>Ended</dt>
            <dd>{{ exactMoment(found.seal.ended_at) }}</dd>
          </template>
          <template v-if="found.key">
            <dt>Key</dt>
            <dd><span class="mono">{{ found.key }}</span> {{ found.trusted ? "✓ one of this installation" : "✕ not of this installation" }}</dd>
          </template>
        </dl>
        <h2>By hand, on any machine</h2>
        <ol class="steps">
          <li>Save <a :href="script" download="check.py">check.py</a>, which needs Python 3 and the command <span class="mono">openssl</span>, and no network.</li>
          <li>Ask somebody you trust at the organisation for the fingerprint of the key; the file cannot vouch for itself.</li>
          <li>Run <span class="mono">python3 check.py FILE.evidence.jsonl FINGERPRINT</span></li>
        </ol>
        <p class="quiet">A seal is a JSON Web Signature (RFC 7515) with an Ed25519 key (RFC 8037). It holds the hash behind the last event; the hash behind an event is the SHA-256 of the hash before it, a line feed, and the event as it stands on its line.</p>
        <details>
          <summary>What check.py does</summary>
          <pre class="mono">{{ data?.check }}</pre>
        </details>
      </div>
      <aside>
        <h2>Keys of this installation</h2>
        <ProblemNote v-if="error" :error="error" />
        <ul>
          <li v-for="key in data?.keys ?? []" :key="key.kid">
            <span class="mono">{{ key.kid }}</span>
            <small class="quiet">{{ key.kid === data?.current ? "✓ seals now" : "sealed earlier runs; only its public half is kept" }}</small>
          </li>
        </ul>
        <ProblemNote v-if="problem" :error="problem" />
        <el-popconfirm title="Take a new key into use? What the old one sealed can still be checked, and it can seal nothing any more." confirm-button-text="New key" cancel-button-text="No" width="300" @confirm="rotate">
          <template #reference><el-button v-may="'change-settings'" class="btn" :disabled="busy">New key …</el-button></template>
        </el-popconfirm>
        <p class="quiet">Keys are files beside the database, readable by their owner only. Back up that folder apart from it, and tell auditors the fingerprints.</p>
      </aside>
    </div>
  </div>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 320px;
  gap: var(--gap-5);
  margin-top: var(--gap-4);
}
.drop {
  display: flex;
  justify-content: space-between;
  align-items: center;
  gap: var(--gap-3);
  padding: var(--gap-4);
  border: 1.5px dashed var(--ink-3);
  border-radius: var(--radius);
  background: var(--sheet);
}
.drop.over {
  border-color: var(--brass);
  background: var(--brass-soft);
}
h2 {
  margin: var(--gap-4) 0 var(--gap-1);
}
aside h2 {
  margin-top: 0;
}
dl {
  display: grid;
  grid-template-columns: 200px 1fr;
  gap: 4px 12px;
  margin: var(--gap-3) 0;
}
dt {
  color: var(--ink-2);
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
.steps {
  list-style: decimal;
  padding-left: 20px;
}
pre {
  font-size: var(--text-s);
  border-left: 3px solid var(--brass);
  padding-left: var(--gap-3);
  white-space: pre-wrap;
}
aside li {
  padding: 6px 0;
  margin-bottom: var(--gap-3);
  border-bottom: 1px solid var(--rule-faint);
  overflow-wrap: anywhere;
}
small {
  display: block;
}
aside .quiet {
  margin-top: var(--gap-2);
}
@media (max-width: 900px) {
  .columns {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
