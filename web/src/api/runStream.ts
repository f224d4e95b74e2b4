import { onScopeDispose, ref, shallowRef, watch, type Ref } from "vue";
import type { EventView, RunStatus, ScoreStep, StreamMessage } from "@/api/types";

/**
 * A run as it happens. The first message holds the whole score; later ones what changed. The browser comes
 * back by itself with Last-Event-ID after a lost connection, and the server sends what was missed.
 */
export function useRunStream(id: Ref<number>) {
  const status = shallowRef<RunStatus | null>(null);
  const steps = shallowRef<ScoreStep[]>([]);
  const events = shallowRef<EventView[]>([]);
  const lost = ref(false);
  const receivedAt = ref(0);
  let source: EventSource | null = null;

  function take(message: StreamMessage): void {
    const changed = new Map(message.steps.map((step) => [step.id, step]));
    steps.value = steps.value.length
      ? steps.value.map((step) => changed.get(step.id) ?? step)
      : message.steps;
    const last = events.value.at(-1)?.seq ?? 0;
    events.value = [...events.value, ...message.events.filter((event) => event.seq > last)];
    status.value = message.status;
    receivedAt.value = performance.now();
    lost.value = false;
    if (message.status.outcome) close();
  }

  function open(): void {
    close();
    status.value = null;
    steps.value = [];
    events.value = [];
    source = new EventSource(`/api/v1/runs/${id.value}/stream`);
    source.onmessage = (event) => take(JSON.parse(event.data) as StreamMessage);
    source.onerror = () => {
      lost.value = true;
    };
  }

  function close(): void {
    source?.close();
    source = null;
  }

  watch(id, open, { immediate: true });
  onScopeDispose(close);
  return { status, steps, events, lost, receivedAt };
}
