<script setup lang="ts">
import { computed } from "vue";
import type { Finding } from "@/api/types";

/** `every`: all of them one by one. */
const props = defineProps<{ findings: Finding[]; compact?: boolean; mendable?: boolean; every?: boolean }>();
const emit = defineEmits<{ mend: [finding: Finding] }>();
const words = { blocks: "Blocks", warns: "Warns", note: "Note" } as const;
const shapes = { blocks: "■", warns: "▲", note: "●" } as const;

/** Of many that say the same of several things, the first stand there and the others behind a line that counts them. */
const FEW = 3;
const kinds = computed(() => {
  const found = new Map<string, Finding[]>();
  for (const one of props.findings) found.set(`${one.severity} ${one.code}`, [...(found.get(`${one.severity} ${one.code}`) ?? []), one]);
  return [...found.entries()].map(([key, same]) => {
    const shown = same.length > FEW && !props.every ? same.slice(0, 1) : same;
    return { key, shown, more: same.slice(shown.length) };
  });
});
</script>

<template>
  <ul class="findings" :class="{ compact }">
    <template v-for="kind in kinds" :key="kind.key">
      <li v-for="finding in kind.shown" :key="finding.code + finding.subject + finding.sentence" :class="finding.severity">
        <strong><span aria-hidden="true">{{ shapes[finding.severity] }}</span> {{ words[finding.severity] }}</strong>
        <p>{{ finding.sentence }} <span class="quiet">{{ finding.mend }}</span>
          <button v-if="mendable && finding.fix" class="link" :aria-label="`${finding.fix}: ${finding.subject}`" @click="emit('mend', finding)">{{ finding.fix }}</button>
          <RouterLink :to="`/help/findings#${finding.code}`" class="about" :aria-label="`What does this finding mean? ${finding.code}`" title="What does this finding mean?">?</RouterLink>
        </p>
      </li>
      <li v-if="kind.more.length" :class="kind.shown[0]?.severity">
        <details>
          <summary>and {{ kind.more.length }} more of this kind</summary>
          <FindingList :findings="kind.more" :compact="compact" :mendable="mendable" every @mend="emit('mend', $event)" />
        </details>
      </li>
    </template>
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
