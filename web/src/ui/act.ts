import { useQueryClient } from "@tanstack/vue-query";
import { ref } from "vue";

/** Does something at the server; what it refused is in `problem`, what it changed is asked for again. */
export function useAct(done: () => void = () => undefined) {
  const client = useQueryClient();
  const problem = ref<unknown>(null);
  const busy = ref(false);
  async function act(work: () => Promise<unknown>) {
    busy.value = true;
    problem.value = null;
    try {
      await work();
      done();
      await client.invalidateQueries();
    } catch (caught) {
      problem.value = caught;
    } finally {
      busy.value = false;
    }
  }
  return { problem, busy, act };
}
