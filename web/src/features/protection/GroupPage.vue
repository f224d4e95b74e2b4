<script setup lang="ts">
import { useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { api, take } from "@/api/client";
import { usePlans } from "@/api/queries";
import type { GroupDetail } from "@/api/types";
import { BAD, SHAPES } from "@/features/protection/conditions";
import PointTimeline from "@/ui/PointTimeline.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import TrapsOf from "@/ui/TrapsOf.vue";
import { ago, count, duration, moment, size } from "@/ui/format";
import { useKeys } from "@/ui/keys";
import { timesUsual, UNUSUAL } from "@/ui/pointTimeline";

const route = useRoute();
const router = useRouter();
const client = useQueryClient();
const code = computed(() => String(route.params.code));
const { data, error } = useQuery({
  queryKey: ["group", code],
  queryFn: () => take(api.GET("/api/v1/groups/{code}", { params: { path: { code: code.value } } })),
});
// A group alone is failed over by a plan that holds it and nothing else.
const { data: plans } = usePlans();
const alone = computed(() => plans.value?.plans.find((plan) => plan.code === data.value?.plan));
const problem = ref<unknown>(null);
const picked = ref<number | null>(null);
const label = ref("");
const because = ref("");
const key = ref("");
const asking = ref<"" | "pause" | "key" | "end">("");
const said = ref("");

const now = computed(() => (data.value ? new Date(data.value.now).getTime() : 0));
const at = computed(() => picked.value ?? now.value);
const row = computed(() => (data.value ? [{ ...data.value, group: data.value.group.code, name: data.value.group.name }] : []));
const point = computed(() => data.value?.points.findLast((one) => new Date(one.at).getTime() <= at.value));
const hint = computed(() => data.value?.points.find((one) => one.id === data.value?.hint));
const pinned = computed(() => (data.value?.points ?? []).filter((one) => one.label));
const policy = computed(() => data.value?.group.policy);
const modes = { continuous: "continuously", interval: "in cycles", "backup-copy": "as backup copies" } as const;

async function act(done: string, work: () => Promise<GroupDetail | undefined>) {
  problem.value = null;
  said.value = "";
  try {
    const fresh = await work();
    if (fresh) client.setQueryData(["group", code.value], fresh);
    said.value = done;
    asking.value = "";
    await client.invalidateQueries({ queryKey: ["groups"] });
  } catch (caught) {
    problem.value = caught;
  }
}
const path = () => ({ params: { path: { code: code.value } } });
const pause = (reason: string) => act(reason ? "It is paused." : "It goes on.", () => take(api.POST("/api/v1/groups/{code}/pause", { ...path(), body: { because: reason } })));
function pin(id: string, name: string) {
  return act(name ? `Pinned as ${name}.` : "It is not pinned any more.", async () => {
    const fresh = await take(api.PUT("/api/v1/groups/{code}/points/{point}", { params: { path: { code: code.value, point: id } }, body: { label: name } }));
    label.value = "";
    return fresh;
  });
}
const storeKey = () =>
  act("The key is stored; nobody can read it here.", async () => {
    await take(api.PUT("/api/v1/groups/{code}/key", { ...path(), body: { key: key.value } }));
    key.value = "";
    await client.invalidateQueries({ queryKey: ["group", code.value] });
    return undefined;
  });
async function endProtection() {
  problem.value = null;
  try {
    await take(api.DELETE("/api/v1/groups/{code}", path()));
    await client.invalidateQueries();
    await router.push("/protection");
  } catch (caught) {
    problem.value = caught;
  }
}
useKeys([{ keys: ["E"], label: "Change the group", run: () => void router.push(`/protection/${code.value}/edit`) }]);
</script>

<template>
  <div class="page">
    <ProblemNote v-if="error && !data" :error="error" />
    <template v-if="data && policy">
      <h1 class="sentence">
        <RouterLink to="/protection">{{ data.group.name }}</RouterLink> is <b :class="{ bad: BAD.has(data.line.health.condition) }">{{ SHAPES[data.line.health.condition] }} {{ data.line.health.condition }}</b
        >. {{ data.line.health.sentence }}
      </h1>
      <p class="under">
        {{ count(data.group.members.length, "workload") }} from {{ data.group.source }} to {{ data.group.target }}, {{ data.line.stage }}.
        <progress v-if="data.line.health.condition === 'seeding'" :value="data.line.seeded_share" max="1" />
        <span v-if="data.line.key_missing" class="bad">✕ Its copies are encrypted and no key is stored.</span>
      </p>
      <p class="actions">
        <RouterLink v-may="'change-protection'" :to="`/protection/${code}/edit`" class="btn">Change</RouterLink>
        <RouterLink :to="alone ? `/plans/${alone.code}/start` : `/plans/new?group=${code}`" class="btn">{{ alone ? "Test it, or fail it over …" : "A plan for it alone …" }}</RouterLink>
        <el-button v-if="data.paused_because" v-may="'change-protection'" class="btn main" @click="pause('')">Resume copying</el-button>
        <el-button v-else v-may="'change-protection'" class="btn" @click="asking = 'pause'">Pause …</el-button>
        <el-button v-if="!policy.encrypted || !data.key_stored" v-may="'change-protection'" class="btn" @click="asking = 'key'">{{ data.key_stored ? "Replace the key …" : "Store a key …" }}</el-button>
        <el-button v-may="'change-protection'" class="btn danger" @click="asking = 'end'">End protection …</el-button>
        <span role="status">{{ said }}</span>
      </p>
      <form v-if="asking === 'pause'" class="form ask" @submit.prevent="pause(because)">
        <el-form-item label="Why is it paused?"><el-input v-model="because" required maxlength="200" /></el-form-item>
        <p class="buttons"><el-button class="btn main" native-type="submit">Pause it</el-button><el-button class="btn" @click="asking = ''">Cancel</el-button></p>
      </form>
      <form v-if="asking === 'key'" class="form ask" @submit.prevent="storeKey">
        <el-form-item label="Key of the encrypted copies, 16 characters or more"><el-input v-model="key" type="password" autocomplete="off" required minlength="16" /></el-form-item>
        <p class="quiet">It is encrypted at rest and never shown again.</p>
        <p class="buttons"><el-button class="btn main" native-type="submit">Store it</el-button><el-button class="btn" @click="asking = ''">Cancel</el-button></p>
      </form>
      <div v-if="asking === 'end'" class="ask">
        <p class="bad">All {{ data.points.length }} recovery points are given up, also the pinned ones. This cannot be taken back; what the group was can be brought back under Settings, and is then copied anew.</p>
        <p class="form buttons"><el-button class="btn danger" @click="endProtection">End protection of {{ data.group.name }}</el-button><el-button class="btn" @click="asking = ''">Cancel</el-button></p>
      </div>
      <ProblemNote v-if="problem" :error="problem" />

      <section>
        <h2>Known traps</h2>
        <TrapsOf about="group" :name="code" />
      </section>
      <section v-if="data.points.length">
        <h2>
          Recovery points
          <template v-if="hint">
            <span class="plain bad">▲ Unusual changes.</span>
            <button class="link" @click="picked = new Date(hint.at).getTime()">Take {{ moment(hint.at, true) }}, the newest point before them</button>
          </template>
          <button v-if="picked !== null" class="link" @click="picked = null">Take the newest</button>
        </h2>
        <PointTimeline :groups="row" :now="data.now" :at="at" :newest="picked === null" :chosen="{ [code]: point }" @pick="picked = $event" />
        <div v-if="point" class="point" data-testid="point">
          <b>{{ moment(point.at, true) }}</b>
          <span>{{ point.kind }}, {{ size(point.changed_bytes) }} changed<template v-if="point.anomaly >= UNUSUAL">, <b class="bad">{{ timesUsual(point.anomaly) }}</b></template></span>
          <RouterLink v-if="data.proved[point.id]" :to="`/runs/${data.proved[point.id]}`">✓ proved by run {{ data.proved[point.id] }}</RouterLink>
          <template v-if="point.label">
            <span>⚑ {{ point.label }}</span>
            <el-button v-may="'change-protection'" class="btn" @click="pin(point.id, '')">Unpin</el-button>
          </template>
          <form v-else @submit.prevent="pin(point.id, label)">
            <el-input v-model="label" class="entry" placeholder="a name for it" aria-label="Label" maxlength="80" required />
            <el-button v-may="'change-protection'" class="btn" native-type="submit">Pin it</el-button>
          </form>
        </div>
        <p v-if="pinned.length">
          Pinned:
          <button v-for="one in pinned" :key="one.id" class="link gap" @click="picked = new Date(one.at).getTime()">⚑ {{ one.label }} ({{ moment(one.at) }})</button>
        </p>
      </section>

      <div class="two">
        <section>
          <h2>Members</h2>
          <ul>
            <li v-for="name in data.group.members" :key="name">
              <RouterLink :to="`/estate?open=${name}`">{{ name }}</RouterLink>
              <span v-if="!data.named.includes(name)" class="quiet"> joined by its tags</span>
            </li>
          </ul>
          <p v-if="data.group.tag_rule">Whatever matches <span class="mono">{{ data.group.tag_rule }}</span> joins by itself.</p>
          <p v-for="one in data.left_out" :key="one.workload + one.disk" class="warn">▲ {{ one.disk }} of {{ one.workload }} is left out: {{ one.because }}.</p>
        </section>
        <section>
          <h2>Policy</h2>
          <p>Copied {{ modes[policy.mode] }}, a point every {{ duration(policy.interval_s) }}; never older than {{ duration(policy.rpo_s) }}.</p>
          <p>
            All points for {{ duration(policy.keep_all_s) }}, hourly for {{ duration(policy.keep_hourly_s) }}, daily for {{ duration(policy.keep_daily_s) }}<template v-if="policy.most_points">, at most {{ policy.most_points }}</template>: {{ data.points.length }} points and {{ size(data.kept_bytes) }} now<template v-if="data.points[0]">, the oldest {{ ago(data.points[0].at) }}</template>.
          </p>
          <p>
            {{ policy.app_consistent_every_s ? `Application-consistent every ${duration(policy.app_consistent_every_s)}.` : "Never application-consistent." }}
            Weight {{ policy.weight }} on its link<template v-if="policy.compression">, compressed</template><template v-if="policy.encrypted">, encrypted<template v-if="data.key_fingerprint"> with the key <span class="mono">{{ data.key_fingerprint }}</span></template></template>.
          </p>
        </section>
      </div>
    </template>
    <p v-else-if="!error" class="quiet">One moment …</p>
  </div>
</template>

<style scoped>
.actions {
  display: flex;
  flex-wrap: wrap;
  gap: var(--gap-2);
  align-items: center;
  margin: var(--gap-2) 0;
}
.ask {
  max-width: 520px;
  border-left: 4px solid var(--brass);
  padding: 4px 0 4px 12px;
}
.plain {
  font-weight: 400;
}
h2 {
  margin: var(--gap-3) 0 var(--gap-1);
  display: flex;
  gap: var(--gap-3);
}
.point {
  display: flex;
  flex-wrap: wrap;
  gap: var(--gap-4);
  align-items: center;
  padding: var(--gap-2) 0;
}
.point form {
  display: flex;
  gap: var(--gap-2);
}
.gap {
  margin-right: var(--gap-3);
}
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: var(--gap-5);
}
.warn {
  color: var(--brass);
}
ul {
  columns: 2;
}
@media (max-width: 760px) {
  .two {
    grid-template-columns: 1fr;
  }
}
</style>
