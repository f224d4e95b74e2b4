import { onScopeDispose, ref, shallowRef } from "vue";
import { api, ApiError, take } from "@/api/client";
import type { JobView, Problem } from "@/api/types";

/** What is asked for with this is answered at once with the job that makes it. */
export const LATER = { Prefer: "respond-async" };
const SOON_MS = 250;
const LATER_MS = 1000;
const SOON_FOR = 12;

/** Whether it waits, or is worked at. */
export const isOpen = (job: JobView) => job.state === "waiting" || job.state === "working";
const isJob = (answer: object): answer is JobView => "cancelling" in answer;
const wait = (ms: number) => new Promise((done) => window.setTimeout(done, ms));

/** Where the file is that a job made, or its answer. */
export const resultOf = (job: JobView) => `/api/v1/jobs/${job.id}/result`;

export function cancelJob(job: JobView): Promise<JobView> {
  return take(api.DELETE("/api/v1/jobs/{id}", { params: { path: { id: job.id } } }));
}

/** Until a job is over; `seen` hears how it stands meanwhile, and says whether anybody still waits. */
async function ended(job: JobView, seen: (job: JobView) => boolean): Promise<JobView> {
  let now = job;
  for (let looks = 0; seen(now) && isOpen(now); looks++) {
    await wait(looks < SOON_FOR ? SOON_MS : LATER_MS);
    now = await take(api.GET("/api/v1/jobs/{id}", { params: { path: { id: now.id } } }));
  }
  return now;
}

/** One job at a time that somebody waits for: how far it is, and what was wrong. */
export function useJob() {
  const job = shallowRef<JobView | null>(null);
  const problem = ref<unknown>(null);
  const busy = ref(false);
  let asked = 0;
  let before = false;

  /** What `begin` asks for, once it is made; undefined where something else was asked for since, or it went wrong. */
  async function made<T extends object>(begin: () => Promise<T | JobView>): Promise<T | undefined> {
    stop();
    const mine = ++asked;
    const first = !before;
    before = true;
    [busy.value, problem.value] = [true, null];
    try {
      const answer = await begun(begin, mine, first);
      if (!isJob(answer)) return mine === asked ? answer : undefined;
      const last = await ended(answer, (now) => {
        if (mine === asked) job.value = now;
        else if (isOpen(now)) void cancelJob(now).catch(() => undefined);
        return mine === asked;
      });
      if (mine !== asked || last.state === "cancelled") return undefined;
      const reply = await fetch(resultOf(last));
      const body: unknown = await reply.json();
      if (!reply.ok) throw new ApiError(body as Problem);
      return mine === asked ? (body as T) : undefined;
    } catch (caught) {
      if (mine === asked) problem.value = caught;
      return undefined;
    } finally {
      if (mine === asked) [busy.value, job.value] = [false, null];
    }
  }

  /** What was asked for before is being cancelled, and may be in the way for a moment. */
  async function begun<T>(begin: () => Promise<T>, mine: number, first: boolean): Promise<T> {
    for (let tries = 0; ; tries++) {
      try {
        return await begin();
      } catch (caught) {
        const inTheWay = caught instanceof ApiError && caught.problem.code === "too-much-at-once";
        if (!inTheWay || first || mine !== asked || tries >= SOON_FOR) throw caught;
        await wait(LATER_MS);
      }
    }
  }

  /** Nobody waits for it any more. */
  function stop() {
    asked++;
    if (job.value) void cancelJob(job.value).catch(() => undefined);
    [busy.value, job.value] = [false, null];
  }

  onScopeDispose(stop);
  return { job, problem, busy, made, stop };
}

/** A file that a job makes. It goes on when the page is left, and is among the jobs then. */
export function useFile() {
  const job = shallowRef<JobView | null>(null);
  const problem = ref<unknown>(null);
  const busy = ref(false);
  let here = true;
  onScopeDispose(() => (here = false));

  async function download(path: string) {
    if (busy.value) return;
    [busy.value, problem.value] = [true, null];
    try {
      const reply = await fetch(path, { headers: LATER });
      const body: unknown = await reply.json();
      if (!reply.ok) throw new ApiError(body as Problem);
      const last = await ended(body as JobView, (now) => ((job.value = now), here));
      if (!here || last.state === "cancelled") return;
      if (last.state === "failed") throw new ApiError((await (await fetch(resultOf(last))).json()) as Problem);
      const link = document.createElement("a");
      [link.href, link.download] = [resultOf(last), last.file];
      link.click();
    } catch (caught) {
      problem.value = caught;
    } finally {
      [busy.value, job.value] = [false, null];
    }
  }
  return { job, problem, busy, download };
}
