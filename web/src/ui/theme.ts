import { ref, watchEffect } from "vue";

type Theme = "day" | "night";
const KEY = "maestoso.theme";

const kept = () => {
  const found = localStorage.getItem(KEY);
  return found === "day" || found === "night" ? found : "";
};
const system = (): Theme => (window.matchMedia("(prefers-color-scheme: dark)").matches ? "night" : "day");

export const theme = ref<Theme>(kept() || system());

watchEffect(() => {
  document.documentElement.dataset.theme = theme.value;
});

/** In this browser, from now on. */
export function switchTheme(): void {
  theme.value = theme.value === "day" ? "night" : "day";
  localStorage.setItem(KEY, theme.value);
}

/** What somebody chose for all browsers, where nothing was chosen in this one. */
export function preferTheme(wanted: "" | Theme): void {
  theme.value = kept() || wanted || system();
}

/** Let go of what was chosen in this one. */
export function forgetTheme(): void {
  localStorage.removeItem(KEY);
}
