<script setup lang="ts">
import { computed, ref, watch } from "vue";
import { api, take } from "@/api/client";
import { FIELDS, type Kind, TITLES, fresh, fromText, toText } from "@/features/estate/things";
import { useAct } from "@/ui/act";
import KeptInput from "@/ui/KeptInput.vue";
import ProblemNote from "@/ui/ProblemNote.vue";

const props = defineProps<{ site: string; kind: Kind; thing: Record<string, unknown> | null }>();
const open = defineModel<boolean>({ required: true });
const { problem, act } = useAct(() => (open.value = false));
const draft = ref<Record<string, unknown>>({});
const isNew = computed(() => !props.thing);
watch(
  open,
  (now) => {
    if (!now) return;
    problem.value = null;
    draft.value = props.thing ? JSON.parse(JSON.stringify(props.thing)) : fresh(props.kind);
  },
  { immediate: true },
);
const PATHS = { host_pools: "host-pools", storage_pools: "storage-pools", networks: "networks", front_doors: "front-doors" } as const;

const path = computed(() => ({ path: { code: props.site, name: String(draft.value.name) } }));
const save = () => act(() => take(api.PUT(`/api/v1/sites/{code}/${PATHS[props.kind]}/{name}` as "/api/v1/sites/{code}/networks/{name}", { params: path.value, body: draft.value as never })));
const retire = () => act(() => take(api.DELETE(`/api/v1/sites/{code}/${PATHS[props.kind]}/{name}` as "/api/v1/sites/{code}/networks/{name}", { params: path.value })));
</script>

<template>
  <el-dialog v-model="open" :title="`${isNew ? 'A new' : 'The'} ${TITLES[kind]}${isNew ? '' : ` ${thing?.name}`} at ${site}`" width="min(480px, 94vw)">
    <form class="form" @submit.prevent="save">
      <template v-for="field in FIELDS[kind]" :key="field.key">
        <p v-if="field.type === 'yes'">
          <el-checkbox :model-value="Boolean(draft[field.key])" @change="draft[field.key] = $event">{{ field.label }}</el-checkbox>
        </p>
        <el-form-item v-else :label="field.label">
          <el-select v-if="field.type === 'choice'" :model-value="String(draft[field.key])" filterable default-first-option @change="draft[field.key] = $event">
            <el-option v-for="choice in field.choices" :key="choice" :value="choice" :label="`${choice}`" />
          </el-select>
          <KeptInput v-else-if="field.type === 'list' || field.type === 'pairs'" long :rows="2" class="mono" :value="toText(field, draft[field.key])" @done="draft[field.key] = fromText(field, $event)" />
          <KeptInput v-else :type="field.type === 'number' ? 'number' : 'text'" :disabled="field.key === 'name' && !isNew" :value="toText(field, draft[field.key])" @done="draft[field.key] = fromText(field, $event)" />
        </el-form-item>
      </template>
      <ProblemNote v-if="problem" :error="problem" />
      <p class="buttons">
        <el-button v-may="'change-estate'" class="btn main" native-type="submit">{{ isNew ? "Add it" : "Save" }}</el-button>
        <el-popconfirm v-if="!isNew" :title="`Remove ${thing?.name} from the records? Its site is not touched.`" confirm-button-text="Remove it" cancel-button-text="No" width="280" @confirm="retire">
          <template #reference><el-button v-may="'change-estate'" class="btn danger">Retire</el-button></template>
        </el-popconfirm>
        <el-button class="btn" @click="open = false">Cancel</el-button>
      </p>
    </form>
  </el-dialog>
</template>
