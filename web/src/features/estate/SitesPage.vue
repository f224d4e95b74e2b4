<script setup lang="ts">
import { computed, ref } from "vue";
import { api, take } from "@/api/client";
import { useSiteRequests, useSites } from "@/api/queries";
import type { Link, SiteView } from "@/api/types";
import AgentDialog from "@/features/estate/AgentDialog.vue";
import DriftDialog from "@/features/estate/DriftDialog.vue";
import EstateTabs from "@/features/estate/EstateTabs.vue";
import LinkDialog from "@/features/estate/LinkDialog.vue";
import RequestsDialog from "@/features/estate/RequestsDialog.vue";
import SiteDialog from "@/features/estate/SiteDialog.vue";
import ThingDialog from "@/features/estate/ThingDialog.vue";
import type { Kind } from "@/features/estate/things";
import { useAct } from "@/ui/act";
import { offerUndo } from "@/ui/undo";
import PageSkeleton from "@/ui/PageSkeleton.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { ago, count, list } from "@/ui/format";
import { rate } from "@/ui/format";

const { problem, act } = useAct();
const { data, error } = useSites();
const { data: requests } = useSiteRequests();
const editing = ref<{ site: string; kind: Kind; thing: Record<string, unknown> | null } | null>(null);
const thingOpen = ref(false);
const link = ref<Link | null>(null);
const linkOpen = ref(false);
const drifting = ref<SiteView | null>(null);
const agent = ref<SiteView | null>(null);
const driftOpen = ref(false);
const registering = ref(false);
const asked = ref<SiteView | null>(null);
const askedOpen = ref(false);
const waiting = (site: SiteView) => requests.value?.waiting.filter((one) => one.site === site.code).length ?? 0;

const MOST_ODD = 5;
const sentence = computed(() => {
  const sites = data.value?.sites ?? [];
  if (!sites.length) return "No site is known yet. Register one, or bring in a file that describes some.";
  const lost = sites.filter((site) => site.lost_because).map((site) => site.name);
  const drifted = sites.filter((site) => site.drifted).map((site) => site.name);
  const said = [`${count(sites.length, "site")} and ${count(data.value?.links.length ?? 0, "link")} are known.`];
  if (lost.length) said.push(`${list(lost)} ${lost.length === 1 ? "does" : "do"} not answer.`);
  if (drifted.length) said.push(`${list(drifted)} ${drifted.length === 1 ? "differs" : "differ"} from the records.`);
  const forgot = sites.filter((site) => site.forgot_at).map((site) => site.name);
  if (forgot.length) said.push(`${list(forgot)} ${forgot.length === 1 ? "has" : "have"} lost the memory of what was asked there.`);
  const odd = sites.filter((site) => site.odd.length).map((site) => site.name);
  if (odd.length) said.push(`Not all machines of ${list(odd)} can be taken over.`);
  if (!lost.length && !drifted.length && !forgot.length && !odd.length) said.push("All answer, and say what the records say.");
  return said.join(" ");
});
function edit(site: SiteView, kind: Kind, thing: unknown) {
  editing.value = { site: site.code, kind, thing: thing as Record<string, unknown> | null };
  thingOpen.value = true;
}
function editLink(one: Link | null) {
  link.value = one;
  linkOpen.value = true;
}
function drift(site: SiteView) {
  drifting.value = site;
  driftOpen.value = true;
}
function showAsked(site: SiteView) {
  asked.value = site;
  askedOpen.value = true;
}
const follow = (site: SiteView, takes_over: boolean) =>
  act(() => take(api.PUT("/api/v1/sites/{code}", { params: { path: { code: site.code } }, body: { name: site.name, time_zone: site.time_zone, takes_over } })));
const forgotSeen = (site: SiteView) => act(() => take(api.POST("/api/v1/sites/{code}/forgot/seen", { params: { path: { code: site.code } } })));
const retire = (site: SiteView) =>
  act(async () => {
    await take(api.DELETE("/api/v1/sites/{code}", { params: { path: { code: site.code } } }));
    await offerUndo("site", `${site.name} (${site.code})`, `${site.name} is retired.`);
  });
const gib = (mib: number) => `${Math.round(mib / 1024)} GiB`;
</script>

<template>
  <div class="page">
    <ProblemNote v-if="error && !data" :error="error" />
    <h1 class="sentence">{{ sentence }}</h1>
    <EstateTabs />
    <ProblemNote v-if="problem" :error="problem" />
    <p><el-button v-may="'change-estate'" class="btn" @click="registering = true">Register a site</el-button></p>
    <PageSkeleton v-if="!data && !error" :heading="0" :blocks="[420]" />
    <section v-for="site in data?.sites ?? []" :key="site.code" :data-site="site.code">
      <h2 class="title">
        <span class="serif">{{ site.name }}</span> <span class="mono">{{ site.code }}</span>
        <span class="quiet plain">{{ site.kind === "cloud" ? "cloud region" : "data centre" }}, {{ count(site.workloads, "workload") }}, {{ site.time_zone }}, agent at {{ site.agent_url }}{{ site.practice ? " (practice site)" : "" }}</span>
      </h2>
      <p>
        <span v-if="site.lost_because" class="bad">✕ Does not answer: {{ site.lost_because }}</span>
        <span v-else>✓ Answers.</span>
        <template v-if="site.forgot_at">
          <b class="bad"> ✕ Its agent was restored from an older state, as was found {{ ago(site.forgot_at) }}; what it does not know any more it is asked for again.</b> <el-button v-may="'change-estate'" class="btn" @click="forgotSeen(site)">Acknowledge</el-button>
        </template>
        <span v-if="Math.abs(site.skew_s) > 2" class="bad"> ▲ Its clock is {{ Math.abs(site.skew_s) }} s {{ site.skew_s > 0 ? "ahead" : "behind" }}.</span>
        <template v-if="site.drifted">
          <b> ▲ {{ count(site.drifted, "thing differs", "things differ") }} from the records.</b> <el-button class="btn" @click="drift(site)">Look at them</el-button>
        </template>
        <b v-if="site.lacks.length"> ▲ Its agent cannot {{ list(site.lacks) }}. </b>
        <span v-if="site.inventory_at" class="quiet"> Inventory of {{ ago(site.inventory_at) }}.</span>
        <el-checkbox class="follow" :model-value="site.takes_over" @change="follow(site, Boolean($event))">accept changes without asking</el-checkbox>
        <b v-if="waiting(site)">▲ {{ count(waiting(site), "request") }} {{ waiting(site) === 1 ? "waits" : "wait" }} for it. </b>
        <button class="link" @click="showAsked(site)">Requests to it</button>
        <button v-may="'change-estate'" class="link deed" @click="agent = site">Its agent</button>
        <button v-may="'change-estate'" class="link deed" @click="retire(site)">Retire the site</button>
      </p>
      <template v-if="site.odd.length">
        <p><b>▲ {{ count(site.odd.length, "machine") }} cannot be taken over:</b></p>
        <ul>
          <li v-for="one in site.odd.slice(0, MOST_ODD)" :key="one.name"><span class="mono">{{ one.name }}</span>: {{ one.why }}</li>
          <li v-if="site.odd.length > MOST_ODD">and {{ site.odd.length - MOST_ODD }} more</li>
        </ul>
      </template>
      <div class="things">
        <div class="scroll" tabindex="0"><table class="lines">
          <tr>
            <th>Host pool <button class="link" @click="edit(site, 'host_pools', null)">Add</button></th>
            <th>Hosts</th>
            <th>In use</th>
          </tr>
          <tr v-for="pool in site.host_pools" :key="pool.name">
            <td><button class="link mono" @click="edit(site, 'host_pools', pool)">{{ pool.name }}</button></td>
            <td>{{ pool.hosts }}<span v-if="pool.standby_hosts">, {{ pool.standby_hosts }} in standby</span></td>
            <td class="mono">{{ site.in_use[pool.name]?.cores ?? 0 }} of {{ pool.cores }} cores, {{ gib(site.in_use[pool.name]?.memory_mib ?? 0) }} of {{ gib(pool.memory_mib) }}<span v-if="site.in_use[pool.name]?.reckoned" class="quiet"> (its agent does not say; added up from its workloads)</span></td>
          </tr>
          <tr>
            <th>Storage pool <button class="link" @click="edit(site, 'storage_pools', null)">Add</button></th>
            <th><span class="out-of-sight">Do</span></th>
            <th>In use</th>
          </tr>
          <tr v-for="pool in site.storage_pools" :key="pool.name">
            <td><button class="link mono" @click="edit(site, 'storage_pools', pool)">{{ pool.name }}</button></td>
            <td>{{ pool.replicated ? "▲ itself replicated" : "" }}</td>
            <td class="mono">{{ pool.used_gib }} of {{ pool.capacity_gib }} GiB</td>
          </tr>
        </table></div>
        <div class="scroll" tabindex="0"><table class="lines">
          <tr>
            <th>Network <button class="link" @click="edit(site, 'networks', null)">Add</button></th>
            <th>VLAN</th>
            <th>Prefixes</th>
            <th>Reaches</th>
          </tr>
          <tr v-for="network in site.networks" :key="network.name">
            <td><button class="link mono" @click="edit(site, 'networks', network)">{{ network.name }}</button><span v-if="network.role !== 'production'" class="quiet"> {{ network.role }}</span></td>
            <td class="mono">{{ network.vlan }}</td>
            <td class="mono">{{ network.prefixes.join(", ") }}<span v-if="network.dhcp" class="quiet"> DHCP {{ network.dhcp_ranges.join(", ") }}</span></td>
            <td class="mono quiet">{{ network.routes_to.join(", ") }}<b v-if="network.stretched_with"> ⇄ {{ network.stretched_with }}</b></td>
          </tr>
          <tr>
            <th>Front door <button class="link" @click="edit(site, 'front_doors', null)">Add</button></th>
            <th>Ports</th>
            <th>Address</th>
            <th>Leads to</th>
          </tr>
          <tr v-for="door in site.front_doors" :key="door.name">
            <td><button class="link mono" @click="edit(site, 'front_doors', door)">{{ door.name }}</button></td>
            <td class="mono">{{ door.ports.join(" ") }}</td>
            <td class="mono">{{ door.address }} <span class="quiet">{{ door.sources.length ? `from ${door.sources.join(", ")}` : "from anywhere" }}</span></td>
            <td class="mono">{{ door.workload }}</td>
          </tr>
          <tr v-if="!site.front_doors.length">
            <td colspan="4" class="quiet">none<span v-if="site.door_addresses.length"> now; it can publish {{ site.door_addresses.join(", ") }}</span></td>
          </tr>
        </table></div>
      </div>
    </section>
    <h2 v-if="data" class="title"><span class="serif">Links</span> <button v-if="(data?.sites.length ?? 0) > 1" class="link" @click="editLink(null)">Add</button></h2>
    <div v-if="data?.links.length" class="scroll" tabindex="0"><table class="lines">
      <tr v-for="one in data.links" :key="one.one + one.other">
        <td><button class="link mono" @click="editLink(one)">{{ one.one }} ⇄ {{ one.other }}</button></td>
        <td>{{ rate(one.bandwidth_bps / 8) }}, {{ one.latency_ms }} ms<span v-if="one.loss">, {{ one.loss * 100 }} % lost</span></td>
        <td>
          <span v-for="window in one.windows" :key="window.begins + window.days">{{ window.days.join(" ") }} {{ window.begins }} to {{ window.ends }} UTC: {{ Math.round(window.share * 100) }} % for copies. </span>
          <span v-if="!one.windows.length" class="quiet">all of it for copies at any time</span>
        </td>
      </tr>
    </table></div>
    <p v-else class="quiet">No link yet: nothing can be copied between sites.</p>
    <ThingDialog v-if="editing" v-model="thingOpen" :site="editing.site" :kind="editing.kind" :thing="editing.thing" />
    <LinkDialog v-model="linkOpen" :link="link" :sites="data?.sites ?? []" />
    <AgentDialog v-if="agent" :model-value="true" :site="agent" @update:model-value="agent = null" />
    <DriftDialog v-if="drifting" v-model="driftOpen" :code="drifting.code" :name="drifting.name" />
    <RequestsDialog v-if="asked" v-model="askedOpen" :name="asked.name" :code="asked.code" />
    <SiteDialog v-model="registering" />
  </div>
</template>

<style scoped>
.title {
  margin: var(--gap-4) 0 var(--gap-1);
  color: var(--ink-1);
}
.serif {
  font-family: var(--serif);
  font-size: var(--text-l);
}
.plain {
  font-weight: 400;
  margin-left: var(--gap-2);
}
.follow {
  margin: 0 var(--gap-4);
}
.deed {
  margin-left: var(--gap-4);
}
.things {
  display: grid;
  grid-template-columns: 5fr 7fr;
  gap: 0 var(--gap-5);
  align-items: start;
}
@media (max-width: 900px) {
  .things {
    grid-template-columns: 1fr;
  }
}
</style>
