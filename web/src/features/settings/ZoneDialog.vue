<script setup lang="ts">
// A zone: its servers, and the key that changes it.
import { ref } from "vue";
import { api, take } from "@/api/client";
import type { ZoneView } from "@/api/types";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAct } from "@/ui/act";

const ALGORITHMS = ["hmac-sha256", "hmac-sha384", "hmac-sha512"];
const props = defineProps<{ zone: ZoneView | null }>();
const open = defineModel<boolean>({ required: true });
const name = ref(props.zone?.zone ?? "");
const primary = ref(props.zone?.primary ?? "");
const others = ref((props.zone?.others ?? []).join("\n"));
const key = ref(props.zone?.key_name ?? "");
const algorithm = ref(props.zone?.algorithm ?? "hmac-sha256");
const secret = ref("");
const { problem, busy, act } = useAct();

function save() {
  const body = {
    primary: primary.value, others: others.value.split(/[\s,]+/).filter(Boolean), key_name: key.value,
    algorithm: algorithm.value, secret: secret.value, based_on: props.zone?.revision ?? 0,
  };
  return act(async () => {
    await take(api.PUT("/api/v1/zones/{zone}", { params: { path: { zone: name.value.trim() } }, body }));
    open.value = false;
  });
}
</script>

<template>
  <el-dialog v-model="open" :title="zone ? `The zone ${zone.zone}` : 'Add a zone'" width="min(620px, 96vw)" :close-on-click-modal="false">
    <form class="form" @submit.prevent="save">
      <el-form-item label="Zone"><el-input v-model="name" required maxlength="253" class="mono" placeholder="tidewell.example" :disabled="!!zone" /></el-form-item>
      <el-form-item label="Server that takes changes (host and port)"><el-input v-model="primary" required maxlength="270" class="mono" placeholder="ns1.tidewell.example:53" /></el-form-item>
      <el-form-item label="Other servers of the zone, a line each: they must show a change before it is done"><el-input v-model="others" type="textarea" :rows="2" class="mono" /></el-form-item>
      <div class="two">
        <el-form-item label="Name of the key"><el-input v-model="key" required maxlength="253" class="mono" placeholder="maestoso" /></el-form-item>
        <el-form-item label="Algorithm"><el-select v-model="algorithm"><el-option v-for="one in ALGORITHMS" :key="one" :value="one" :label="one" /></el-select></el-form-item>
      </div>
      <el-form-item :label="zone ? 'Secret of the key, in base64 (empty: as it is)' : 'Secret of the key, in base64'"><el-input v-model="secret" type="password" show-password autocomplete="off" :required="!zone" class="mono" /></el-form-item>
      <ProblemNote v-if="problem" :error="problem" />
      <el-button class="btn main" :disabled="busy" native-type="submit">{{ zone ? "Save it" : "Add it" }}</el-button>
    </form>
  </el-dialog>
</template>
