import { onScopeDispose, ref } from "vue";
import { ApiError } from "@/api/client";
import type { Problem } from "@/api/types";

/** Fetches a file that takes the server a while to make; `beat` is called every second meanwhile. */
export function useDownload(beat: () => void = () => undefined) {
  const busy = ref(false);
  const problem = ref<unknown>(null);
  let timer = 0;
  onScopeDispose(() => window.clearInterval(timer));

  async function download(path: string, name: string) {
    if (busy.value) return;
    [busy.value, problem.value] = [true, null];
    timer = window.setInterval(beat, 1000);
    try {
      const reply = await fetch(path);
      if (!reply.ok) throw new ApiError((await reply.json()) as Problem);
      const address = URL.createObjectURL(await reply.blob());
      const link = document.createElement("a");
      link.href = address;
      link.download = name;
      link.click();
      URL.revokeObjectURL(address);
    } catch (caught) {
      problem.value = caught;
    } finally {
      window.clearInterval(timer);
      busy.value = false;
    }
  }
  return { busy, problem, download };
}
