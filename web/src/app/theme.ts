import { ref, watchEffect } from "vue";

type Theme = "day" | "night";

const kept = localStorage.getItem("maestoso.theme");
const wanted = window.matchMedia("(prefers-color-scheme: dark)").matches ? "night" : "day";

export const theme = ref<Theme>(kept === "day" || kept === "night" ? kept : wanted);

watchEffect(() => {
  document.documentElement.dataset.theme = theme.value;
});

export function switchTheme(): void {
  theme.value = theme.value === "day" ? "night" : "day";
  localStorage.setItem("maestoso.theme", theme.value);
}
