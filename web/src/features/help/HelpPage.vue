<script setup lang="ts">
import { computed, nextTick, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import HelpText from "@/ui/HelpText.vue";
import { TOPICS, isTopic, sectionsOf, textOf, topicOfFinding } from "@/ui/help";

const route = useRoute();
const router = useRouter();
const topic = computed(() => String(route.params.topic || TOPICS[0][0]));
const text = ref("");
const sections = computed(() => sectionsOf(topic.value, text.value).slice(1));

watch(
  [topic, () => route.hash],
  async ([now, hash]) => {
    // A finding is pointed at by its code alone.
    if (now === "findings") {
      const code = hash.slice(1);
      await router.replace(`/help/${(await topicOfFinding(code)) ?? "plans"}#code-${code}`);
      return;
    }
    text.value = isTopic(now) ? await textOf(now) : "# There is no such topic\n\nChoose one of the others.";
    await nextTick();
    const at = hash ? document.getElementById(hash.slice(1)) : null;
    const whole = at?.closest("tr") ?? at;
    whole?.scrollIntoView({ block: "center" });
    document.querySelector(".pointed-at")?.classList.remove("pointed-at");
    whole?.classList.add("pointed-at");
  },
  { immediate: true },
);
</script>

<template>
  <div class="page help">
    <nav aria-label="Topics of help">
      <ul>
        <li v-for="[name, title] in TOPICS" :key="name">
          <RouterLink :to="`/help/${name}`" :class="{ on: name === topic }">{{ title }}</RouterLink>
          <ul v-if="name === topic">
            <li v-for="one in sections" :key="one.anchor"><RouterLink :to="`/help/${name}#${one.anchor}`" class="quiet">{{ one.title }}</RouterLink></li>
          </ul>
        </li>
      </ul>
    </nav>
    <HelpText :text="text" />
  </div>
</template>

<style scoped>
.help {
  display: grid;
  grid-template-columns: 210px minmax(0, 76ch);
  gap: var(--gap-5);
}
nav {
  position: sticky;
  top: var(--gap-4);
  align-self: start;
  max-height: 96vh;
  overflow: auto;
}
nav a {
  display: block;
  padding: 3px 0;
  text-decoration: none;
}
nav a:hover {
  text-decoration: underline;
}
nav .on {
  font-weight: 700;
}
nav ul ul {
  padding-left: 14px;
}
@media (max-width: 760px) {
  .help {
    grid-template-columns: minmax(0, 1fr);
  }
  nav {
    position: static;
  }
}
</style>
