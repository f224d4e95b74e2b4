<script setup lang="ts">
// The front doors that lead to some workloads, before and after.
import type { DoorView } from "@/api/types";

defineProps<{ doors: DoorView[] }>();
</script>

<template>
  <div class="scroll" tabindex="0"><table class="lines" aria-label="Front doors">
    <thead>
      <tr>
        <th>Front door</th>
        <th>Leads to</th>
        <th>Before</th>
        <th>After, live</th>
        <th>After, in a test</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="door in doors" :key="door.name">
        <td class="mono">{{ door.name }}</td>
        <td class="mono">{{ door.workload }}</td>
        <td class="mono">{{ door.before }}, {{ door.ports.join(" ") }}</td>
        <td class="mono"><template v-if="door.live">{{ door.live }}</template><b v-else>▲ does not open</b></td>
        <td class="mono"><template v-if="door.test">{{ door.test }}</template><span v-else class="quiet">does not open</span></td>
      </tr>
    </tbody>
  </table></div>
</template>
