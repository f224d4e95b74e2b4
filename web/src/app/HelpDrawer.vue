<script setup lang="ts">
// What the page that is open is for, from the document of its subject.
import { ref, watch } from "vue";
import { useRoute } from "vue-router";
import HelpText from "@/ui/HelpText.vue";
import { sectionsOf, textOf } from "@/ui/help";

const open = defineModel<boolean>({ required: true });
const route = useRoute();
const text = ref("");
const to = ref("");
watch(() => route.path, show, { immediate: true });
async function show() {
  const [topic = "readiness", anchor = ""] = (route.meta.help ?? "readiness").split("#");
  const sections = sectionsOf(topic, await textOf(topic));
  text.value = (sections.find((one) => one.anchor === anchor) ?? sections[0])?.text ?? "";
  to.value = `/help/${topic}${anchor ? `#${anchor}` : ""}`;
}
</script>

<template>
  <el-drawer v-model="open" title="What is this page for?" size="min(520px, 96vw)">
    <HelpText :text="text" />
    <p><RouterLink :to="to" class="link" @click="open = false">All of this topic</RouterLink></p>
  </el-drawer>
</template>
