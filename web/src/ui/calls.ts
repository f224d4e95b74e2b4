import { type Ref, ref, watch } from "vue";
import { headline, type Waiting } from "@/ui/waiting";

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

/** Calls when a run needs somebody anew, by sound and notification if wanted; the shell has it in the title. */
export function useCalls(waiting: Ref<{ run: number; plan: string; waits: Waiting }[]>, mine: () => boolean) {
  let known: string[] = [];
  watch(
    () => waiting.value.map((one) => `${one.run} ${one.waits.kind} ${one.waits.title}`),
    (needs) => {
      const fresh = waiting.value.find((_, at) => !known.includes(needs[at] ?? ""));
      known = needs;
      if (!fresh || !mine() || !calls.value) return;
      sound();
      if ("Notification" in window && Notification.permission === "granted") {
        new Notification(fresh.plan, { body: headline(fresh.waits, 0), tag: `maestoso-${fresh.run}` });
      }
    },
  );
}
