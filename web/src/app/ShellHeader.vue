<script setup lang="ts">
import { useQueryClient } from "@tanstack/vue-query";
import { api, take } from "@/api/client";
import { useSession } from "@/api/queries";
import { switchTheme, theme } from "@/ui/theme";

defineEmits<{ find: []; help: [] }>();
const client = useQueryClient();
const { data: session } = useSession();

async function signOut() {
  await take(api.DELETE("/api/v1/session"));
  client.clear();
  await client.invalidateQueries();
  window.location.assign("/");
}
defineExpose({ signOut });
</script>

<template>
  <header>
    <RouterLink to="/" class="mark"><b>m</b>aestoso</RouterLink>
    <span class="organisation">{{ session?.organisation }}<template v-if="session?.only">, what is {{ session.only }}</template></span>
    <span class="space" />
    <button class="find" @click="$emit('find')"><span class="words">Find or do anything</span> <kbd>Ctrl K</kbd></button>
    <button class="link plain" title="What is this page for?" @click="$emit('help')">Help</button>
    <button class="link plain" :title="theme === 'day' ? 'Night theme' : 'Day theme'" @click="switchTheme">
      {{ theme === "day" ? "☾ night" : "☀ day" }}
    </button>
    <RouterLink to="/account" class="who" title="My account">{{ session?.full_name || session?.name }}</RouterLink>
    <button class="link plain" @click="signOut">Sign out</button>
  </header>
</template>

<style scoped>
header {
  display: flex;
  align-items: center;
  gap: var(--gap-4);
  height: 48px;
  padding: 0 18px;
  background: var(--sheet);
  border-bottom: 1px solid var(--rule);
}
.mark {
  font-family: var(--serif);
  font-size: 22px;
  font-weight: 700;
  text-decoration: none;
}
.mark b {
  color: var(--brass);
}
.organisation {
  color: var(--ink-2);
}
.space {
  flex: 1;
}
.find {
  display: flex;
  justify-content: space-between;
  align-items: center;
  width: 280px;
  font: inherit;
  padding: 3px 8px 3px 11px;
  border: 1px solid var(--edge);
  border-radius: var(--radius);
  background: var(--paper);
  color: var(--ink-2);
  cursor: pointer;
}
.who {
  white-space: nowrap;
}
.plain {
  color: var(--ink-2);
  white-space: nowrap;
}
@media (max-width: 900px) {
  .organisation {
    display: none;
  }
}
@media (max-width: 760px) {
  .organisation,
  .who {
    display: none;
  }
  .words {
    position: absolute;
    width: 1px;
    height: 1px;
    overflow: hidden;
    clip-path: inset(50%);
    white-space: nowrap;
  }
  .find {
    width: auto;
  }
  header {
    gap: var(--gap-2);
    padding: 0 10px;
  }
}
</style>
