<script setup lang="ts">
import { computed } from "vue";
import type { EventView } from "@/api/types";
import { clock, moment } from "@/ui/format";

const LATEST = 6;
const whole = defineModel<boolean>("whole", { required: true });
const props = defineProps<{ events: EventView[] }>();
const shown = computed(() => (whole.value ? [...props.events] : props.events.slice(-LATEST)).reverse());
</script>

<template>
  <section class="log">
    <h2>Log <button class="link" @click="whole = !whole">{{ whole ? "latest only" : `all ${events.length}` }}</button></h2>
    <ol>
      <li v-for="event in shown" :key="event.seq">
        <span class="mono quiet" :title="moment(event.at, true)">{{ clock(event.run_s) }}</span>
        <span>{{ event.sentence }}</span>
      </li>
    </ol>
  </section>
</template>

<style scoped>
.log {
  margin-top: var(--gap-3);
}
.log li {
  display: grid;
  grid-template-columns: 76px 1fr;
  padding: 2px 0;
}
</style>
