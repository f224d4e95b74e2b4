<script setup lang="ts">
// A field that says its text when it is left or Enter is pressed, and keeps what is typed until then, however
// often the page around it is drawn anew.
import { ref, watch } from "vue";

defineOptions({ inheritAttrs: false });
const props = defineProps<{ value: string | number; long?: boolean }>();
const emit = defineEmits<{ done: [text: string] }>();
const text = ref(String(props.value));
watch(
  () => props.value,
  (now) => (text.value = String(now)),
);
function done() {
  emit("done", text.value);
  // What was not taken over goes back to what is.
  text.value = String(props.value);
}
</script>

<template>
  <el-input v-if="long" v-bind="$attrs" v-model="text" type="textarea" @change="done" />
  <el-input v-else v-bind="$attrs" v-model="text" @change="done" />
</template>
