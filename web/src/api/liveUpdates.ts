import type { QueryClient } from "@tanstack/vue-query";
import { onScopeDispose, ref, watch, type Ref } from "vue";

const NAME = "maestoso.stream";
/** Beats come every second; what is silent for longer may be lost. */
const SILENT_MS = 2500;
const CHECK_MS = 500;
const AGAIN_MS = 2000;

interface News {
  kind: "opened" | "line" | "changed" | "beat";
  data: unknown;
}
/** Of which queries the records changed, by topic; `null` stands for all. */
const QUERIES: Record<string, string[] | null> = {
  changes: null,
  estate: null,
  runs: ["runs", "traps", "evidence", "drills", "proof", "run-landings", "preflight", "lab", "plans"],
  points: ["groups", "group", "points", "sites", "crosswalks", "held", "lab"],
  requests: ["site-requests", "groups", "group", "sites"],
  board: ["readiness", "plans"],
};
/** Never asked again by news: they come with the stream, or have nothing to do with records. */
const OWN = ["site-line", "session"];

/**
 * What is so everywhere, kept up to date in every page of this browser by one stream: the page that holds the lock
 * listens, and passes on what it hears. Where a page goes, another one takes the lock. Says whether it is silent, and
 * whether this page is the one that listens.
 */
export function useLiveUpdates(client: QueryClient, enabled: Ref<boolean>): { silent: Ref<boolean>; listens: Ref<boolean>; refresh: () => void } {
  const silent = ref(false);
  const listens = ref(false);
  const channel = new BroadcastChannel(NAME);
  let heardAt = performance.now();
  let stop: (() => void) | null = null;

  function hear({ kind, data }: News): void {
    heardAt = performance.now();
    silent.value = false;
    if (kind === "line") client.setQueryData(["site-line"], data);
    else if (kind === "opened") refresh(null);
    else if (kind === "changed") for (const topic of (data as { topics: string[] }).topics) refresh(QUERIES[topic] ?? null);
  }
  /** What is under way already is let come through: on a slow server nothing else ever would. */
  function refresh(roots: string[] | null): void {
    const concerned = (root: unknown) => (roots === null ? !OWN.includes(String(root)) : roots.includes(String(root)));
    void client.invalidateQueries({ predicate: (query) => concerned(query.queryKey[0]) }, { cancelRefetch: false });
  }
  function publish(news: News): void {
    channel.postMessage(news);
    hear(news);
  }
  channel.onmessage = (message: MessageEvent<News>) => hear(message.data);

  /** Listen until told to stop; a line that breaks is opened again. */
  function listen(): () => void {
    let source: EventSource;
    let again = 0;
    const open = () => {
      source = new EventSource("/api/v1/stream");
      source.onopen = () => publish({ kind: "opened", data: null });
      for (const kind of ["line", "changed", "beat"] as const) source.addEventListener(kind, (event) => publish({ kind, data: JSON.parse((event as MessageEvent<string>).data) }));
      source.onerror = () => {
        silent.value = true;
        // The browser itself tries again after a broken line, but not after a refusal.
        if (source.readyState !== EventSource.CLOSED) return;
        void client.invalidateQueries({ queryKey: ["session"] });
        again = window.setTimeout(open, AGAIN_MS);
      };
    };
    open();
    return () => {
      window.clearTimeout(again);
      source.close();
    };
  }

  function begin(): void {
    const given = new AbortController();
    let done: (() => void) | null = null;
    stop = () => (given.abort(), done?.());
    const hold = () =>
      new Promise<void>((release) => {
        if (given.signal.aborted) return release();
        const close = listen();
        listens.value = true;
        done = () => ((listens.value = false), close(), release());
      });
    // Without locks every page listens for itself.
    if ("locks" in navigator) navigator.locks.request(NAME, { signal: given.signal }, hold).catch(() => undefined);
    else void hold();
  }

  watch(
    enabled,
    (on) => {
      stop?.();
      stop = null;
      heardAt = performance.now();
      if (on) begin();
    },
    { immediate: true },
  );
  const checking = window.setInterval(() => {
    if (enabled.value && performance.now() - heardAt > SILENT_MS) silent.value = true;
  }, CHECK_MS);
  onScopeDispose(() => {
    window.clearInterval(checking);
    stop?.();
    channel.close();
  });
  return { silent, listens, refresh: () => refresh(null) };
}
