<script setup lang="ts">
import type { Finding } from "@/api/types";

defineProps<{ findings: Finding[]; compact?: boolean; mendable?: boolean }>();
const emit = defineEmits<{ mend: [finding: Finding] }>();
const words = { blocks: "Blocks", warns: "Warns", note: "Note" } as const;
const shapes = { blocks: "■", warns: "▲", note: "●" } as const;
</script>

<template>
  <ul class="findings" :class="{ compact }">
    <li v-for="finding in findings" :key="finding.code + finding.subject + finding.sentence" :class="finding.severity">
      <strong><span aria-hidden="true">{{ shapes[finding.severity] }}</span> {{ words[finding.severity] }}</strong>
      <p>{{ finding.sentence }} <span class="quiet">{{ finding.mend }}</span>
        <button v-if="mendable && finding.fix" class="link" :aria-label="`${finding.fix}: ${finding.subject}`" @click="emit('mend', finding)">{{ finding.fix }}</button>
        <RouterLink :to="`/help/findings#${finding.code}`" class="about" :aria-label="`What does this finding mean? ${finding.code}`" title="What does this finding mean?">?</RouterLink>
      </p>
    </li>
  </ul>
</template>

<style scoped>
li {
  padding: 2px 0 2px 12px;
  border-left: 4px solid var(--rule);
  margin-bottom: 10px;
}
.compact strong {
  white-space: nowrap;
}
.compact li {
  display: flex;
  gap: var(--gap-2);
  margin-bottom: 2px;
}
.about {
  color: var(--ink-2);
  border: 1px solid var(--rule);
  border-radius: 50%;
  padding: 0 5px;
  font-size: var(--text-s);
  text-decoration: none;
}
.blocks {
  border-left-color: var(--disaster);
}
.blocks strong {
  color: var(--disaster);
}
.warns {
  border-left: 5px double var(--brass);
}
</style>
