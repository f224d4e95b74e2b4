import { onScopeDispose, ref, shallowRef, watch, type Ref } from "vue";
import { unlessPressed } from "@/api/pressed";
import type { EventView, RunStatus, ScoreStep, StreamMessage } from "@/api/types";

const AGAIN_MS = 2000;

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
  let again = 0;
  let gone = false;

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
    // Behind the end of a run there is news only while something of it is open, such as a fence that is kept.
    if (message.status.outcome && !message.status.notices.length) close();
  }

  function open(): void {
    status.value = null;
    steps.value = [];
    events.value = [];
    listen();
  }

  function listen(): void {
    close();
    source = new EventSource(`/api/v1/runs/${id.value}/stream`);
    source.onmessage = (event) => unlessPressed(() => take(JSON.parse(event.data) as StreamMessage));
    source.onerror = () => {
      unlessPressed(() => (lost.value = true));
      // The browser tries again by itself after a broken line, but not after a refusal, such as while the
      // database is away. What comes twice is told apart by its number.
      if (source?.readyState === EventSource.CLOSED && !gone) again = window.setTimeout(listen, AGAIN_MS);
    };
  }

  function close(): void {
    window.clearTimeout(again);
    source?.close();
    source = null;
  }

  watch(id, open, { immediate: true });
  onScopeDispose(() => {
    gone = true;
    close();
  });
  return { status, steps, events, lost, receivedAt, reload: listen };
}
