import { onScopeDispose, ref } from "vue";
import { ApiError } from "@/api/client";
import type { Problem } from "@/api/types";

/** Fetches a file that takes the server a while to make: how long it has been at it, and what it refused. */
export function useDownload() {
  const busy = ref(false);
  const seconds = ref(0);
  const problem = ref<unknown>(null);
  let timer = 0;
  onScopeDispose(() => window.clearInterval(timer));

  async function download(path: string, name: string) {
    if (busy.value) return;
    [busy.value, seconds.value, problem.value] = [true, 0, null];
    timer = window.setInterval(() => (seconds.value += 1), 1000);
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
  return { busy, seconds, problem, download };
}
