<script setup lang="ts">
// Who would go on if this machine were lost, and whether that may happen by itself.
import { useQuery } from "@tanstack/vue-query";
import { ref } from "vue";
import { api, take } from "@/api/client";
import { useSiteLine } from "@/api/queries";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAct } from "@/ui/act";
import { vMay } from "@/ui/may";

const { data } = useQuery({ queryKey: ["standbys"], queryFn: () => take(api.GET("/api/v1/standbys")), refetchInterval: 10_000 });
const { data: line } = useSiteLine();
const { problem, busy, act } = useAct();
const site = ref("");
const choose = () => act(() => take(api.PUT("/api/v1/standbys/witness", { body: { site: site.value } })));
const goWithout = () => act(() => take(api.DELETE("/api/v1/standbys/witness")));
</script>

<template>
  <template v-if="data?.expected">
    <h2>Standby</h2>
    <p v-if="!data.lines.length" class="warn">▲ None follows now. <RouterLink to="/help/operations#the-standby">How to begin one</RouterLink></p>
    <p v-for="one in data.lines" :key="one.host">The one at <code>{{ one.host }}</code> follows; {{ one.has_all ? "everything that was written here was sent to it." : "something is still being sent to it." }}</p>
    <h3>Witness</h3>
    <ProblemNote v-if="problem" :error="problem" />
    <template v-if="data.witness">
      <p v-if="data.withheld" class="lost" role="alert">✕ {{ data.withheld }} A standby may have taken over.</p>
      <p v-else-if="data.trouble" class="warn">▲ {{ data.witness }} does not renew the lease: {{ data.trouble }} Once it is over, sites are asked for nothing.</p>
      <p v-else><b>{{ data.witness }}</b> is the witness. If this machine is lost, the standby takes over by itself once the lease is over; while {{ data.witness }} is lost, nothing is conducted here.</p>
      <el-popconfirm
        :title="data.withheld ? 'Is it certain that no standby has taken over? Two would conduct.' : 'From then on the standby takes over only when somebody has it do so.'"
        confirm-button-text="Go on without it"
        cancel-button-text="No"
        width="300"
        @confirm="goWithout"
      >
        <template #reference><el-button v-may="'change-settings'" class="btn" :disabled="busy">Go on without it …</el-button></template>
      </el-popconfirm>
    </template>
    <template v-else>
      <p>
        A standby takes over when somebody has it do so. With a witness it may do so by itself: a third site, apart from this machine and from the standby, whose agent remembers who conducts.
        <RouterLink to="/help/operations#the-witness">What that asks for</RouterLink>
      </p>
      <form class="row" @submit.prevent="choose">
        <el-select v-model="site" class="entry" aria-label="Site that is the witness" placeholder="a third site" :empty-values="['', null, undefined]" filterable default-first-option>
          <el-option v-for="one in line?.stations ?? []" :key="one.code" :value="one.code" :label="`${one.name} (${one.code})`" />
        </el-select>
        <el-button v-may="'change-settings'" class="btn" native-type="submit" :disabled="!site || busy">Make it the witness</el-button>
      </form>
    </template>
  </template>
</template>

<style scoped>
h2,
h3 {
  margin: var(--gap-4) 0 var(--gap-1);
}
h3 {
  font-size: inherit;
  color: var(--ink-2);
}
p {
  margin-bottom: var(--gap-2);
}
.warn {
  color: var(--brass);
}
.lost {
  border-left: 4px solid var(--disaster);
  background: var(--disaster-soft);
  padding: 8px 12px;
}
.row {
  display: flex;
  flex-wrap: wrap;
  gap: var(--gap-2);
}
.entry {
  width: 260px;
}
code {
  overflow-wrap: anywhere;
}
</style>
