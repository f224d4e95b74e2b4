<script setup lang="ts">
/** Where the agent of a site is, and how it is trusted; ``known``: it has a token already, which may stay. */
const draft = defineModel<{ agent_url: string; token: string; enrolment: string; certificate: string }>({ required: true });
const how = defineModel<"token" | "code">("how", { required: true });
defineProps<{ known?: boolean }>();
</script>

<template>
  <el-form-item label="Address of the agent"><el-input v-model="draft.agent_url" class="mono" placeholder="https://agent.quayside.example:8700" required /></el-form-item>
  <p>
    <el-radio v-model="how" value="token">{{ known ? "Keep its token, or give another" : "I have its token" }}</el-radio>
    <el-radio v-model="how" value="code">It printed a one-time code</el-radio>
  </p>
  <el-form-item v-if="how === 'code'" label="One-time code"><el-input v-model="draft.enrolment" class="mono" autocomplete="off" placeholder="ABCD-EFGH-…" required /></el-form-item>
  <el-form-item v-else label="Token"><el-input v-model="draft.token" type="password" autocomplete="off" :placeholder="known ? 'unchanged' : ''" /></el-form-item>
  <details>
    <summary>Certificate of its own or of a private authority</summary>
    <p class="quiet plain">In PEM form. With it, no other is trusted for this site. A code of an agent with TLS brings its certificate along.</p>
    <el-form-item label="Certificate"><el-input v-model="draft.certificate" type="textarea" :rows="4" class="mono" placeholder="-----BEGIN CERTIFICATE-----" /></el-form-item>
  </details>
</template>
