<script setup lang="ts">
// On every page of a standby: whose it is, and how far behind.
import { useTakeover } from "@/api/queries";
import { ago } from "@/ui/format";

defineProps<{
  /** Whether the person may have it take over. */
  may: boolean;
}>();
const { data: standby } = useTakeover();
</script>

<template>
  <p class="standby" role="status">
    <span aria-hidden="true">◌</span>{{ " " }}
    <template v-if="standby">
      <b>This is the standby of {{ standby.of }}.</b> {{ standby.sentence }}
      <template v-if="!standby.connected && !standby.begun && standby.heard_at">Its engine was heard last {{ ago(standby.heard_at) }}.</template>
      Nothing is changed here.
    </template>
    <b v-else>This is a standby. Nothing is changed here.</b>
    {{ " " }}<RouterLink v-if="may && $route.name !== 'takeover'" class="link" to="/takeover">Take over …</RouterLink>
  </p>
</template>

<style scoped>
.standby {
  background: var(--brass-soft);
  border-bottom: 3px double var(--brass);
  padding: 6px 18px;
}
</style>
