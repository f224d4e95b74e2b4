<script setup lang="ts">
// How the draft would do, what it changed, and what can be done with it.
import type { Plan, PlanDetail } from "@/api/types";
import type { PlanEditor } from "@/features/plans/editor";
import { ago, chance, duration } from "@/ui/format";

const props = defineProps<{ editor: PlanEditor; plan: Plan; detail: PlanDetail }>();
const emit = defineEmits<{ save: []; suggest: []; file: [] }>();
const { draft, assessment, saving, said } = props.editor;
</script>

<template>
  <div class="top">
    <div>
      <h1 class="sentence">
        <template v-if="assessment?.forecast">
          {{ plan.name }} would be back in <b>{{ duration(assessment.forecast.p50_s) }}</b> ({{ Math.round(assessment.forecast.p10_s / 60) }} to
          {{ Math.round(assessment.forecast.p95_s / 60) }} min), <b>{{ chance(assessment.forecast.chance) }}</b> likely inside its
          {{ duration(assessment.forecast.objective_s) }}. {{ assessment.forecast.decides }} decides the time.
        </template>
        <template v-else-if="assessment">{{ plan.name }} could not run as it stands. Its findings say why.</template>
        <template v-else>{{ plan.name }}</template>
      </h1>
      <p v-if="draft.elsewhere.value" class="bad" role="status">
        ▲ This plan is open in another tab of this browser as well. What you change here lasts as long as this tab, and saving says what the other one saved.
      </p>
      <p class="under" data-testid="draft">
        <template v-if="draft.changed.value">
          Draft on version {{ draft.basedOn.value }}: {{ assessment?.changes.join(", ") || "changed" }}.
          <button class="link" @click="editor.discard">Discard</button>
        </template>
        <template v-else>
          {{ said || `Version ${detail.version}, saved by ${detail.versions[0]?.author} ${ago(detail.versions[0]?.saved_at ?? "")}: ${detail.versions[0]?.summary}` }}
        </template>
      </p>
    </div>
    <div class="buttons">
      <el-button class="btn" :disabled="!draft.canUndo.value" title="Ctrl+Z" @click="draft.undo">Undo</el-button>
      <el-button class="btn" :disabled="!draft.canRedo.value" title="Ctrl+Shift+Z" @click="draft.redo">Redo</el-button>
      <el-button class="btn" :disabled="!draft.changed.value || saving" title="Ctrl+S saves with the changes as summary" @click="emit('save')">
        Save version {{ draft.basedOn.value + 1 }}
      </el-button>
      <el-button class="btn" title="S" @click="emit('suggest')">Suggest …</el-button>
      <el-button class="btn" title="F" @click="emit('file')">File</el-button>
      <RouterLink class="btn" :to="`/plans/${plan.code}/landings`">Landings</RouterLink>
      <RouterLink class="btn main" :to="`/plans/${plan.code}/start`">Start a test …</RouterLink>
    </div>
  </div>
</template>

<style scoped>
.top {
  display: flex;
  justify-content: space-between;
  gap: var(--gap-4);
}
.buttons {
  display: flex;
  gap: var(--gap-2);
  flex: none;
  flex-wrap: wrap;
  justify-content: flex-end;
  align-content: flex-start;
  max-width: 470px;
}
@media (max-width: 900px) {
  .top {
    flex-direction: column;
  }
}
</style>
