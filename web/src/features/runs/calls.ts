import { type Ref, ref, watch } from "vue";
import type { RunStatus } from "@/api/types";

const KEY = "maestoso.calls";
/** Whether this browser may call its person when a run needs somebody. */
export const calls = ref(localStorage.getItem(KEY) === "yes");

/** Ask for notifications, or stop them. Where they are refused, there is a sound. */
export async function switchCalls() {
  calls.value = !calls.value;
  localStorage.setItem(KEY, calls.value ? "yes" : "no");
  if (calls.value && "Notification" in window && Notification.permission === "default") await Notification.requestPermission();
}

function sound() {
  const audio = new AudioContext();
  const tone = audio.createOscillator();
  const loud = audio.createGain();
  tone.frequency.value = 660;
  loud.gain.setValueAtTime(0.15, audio.currentTime);
  loud.gain.exponentialRampToValueAtTime(0.001, audio.currentTime + 0.6);
  tone.connect(loud).connect(audio.destination);
  tone.start();
  tone.stop(audio.currentTime + 0.6);
  tone.onended = () => void audio.close();
}

/** Calls when something new needs somebody, by sound and notification if wanted; the shell has it in the title. */
export function useCalls(status: Ref<RunStatus | null>) {
  let known = "";
  watch(
    () => (status.value?.needs ?? []).map((need) => need.kind + need.step).join(" "),
    (needs) => {
      const first = status.value?.needs[0];
      if (needs && needs !== known && calls.value && first) {
        sound();
        if ("Notification" in window && Notification.permission === "granted") new Notification(first.title, { body: first.text, tag: "maestoso" });
      }
      known = needs;
    },
  );
}
