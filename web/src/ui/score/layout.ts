import type { ForecastStep, ScoreStep } from "@/api/types";

/** One mark in a row, in seconds. */
export interface Bar {
  step: string;
  mark: "prepare" | "rest" | "boot" | "check" | "cleanup" | "shared" | "close" | "fence" | "sync" | "hold" | "script" | "notify" | "name" | "door" | "fail" | "skip";
  from: number;
  to: number;
  /** Not begun yet: drawn as a dotted frame. */
  ahead: boolean;
  /** Tried in vain: a check has no tick then. */
  vain?: boolean;
  title: string;
}

export interface Row {
  key: string;
  workload: string | null;
  wave: number | null;
  label: string;
  first: boolean;
  bars: Bar[];
  ghost: [number, number] | null;
  whisker: [number, number] | null;
  critical: [number, number][];
  state: string;
  stateTone: "plain" | "busy" | "bad" | "done";
}

const SECONDS_AHEAD_SHOWN = 0.5;

/** The steps of a forecast as those of a run of which nothing has happened yet. */
export function foreseen(steps: ForecastStep[]): ScoreStep[] {
  return steps.map((one) => ({
    ...one,
    status: "waiting",
    attempt: 0,
    planned_start_s: one.start_s,
    planned_finish_s: one.finish_s,
    expected_start_s: one.start_s,
    expected_finish_s: one.finish_s,
    start_s: null,
    finish_s: null,
    code: "",
    reason: "",
    tries: [],
  }));
}

/** Start and end of a step: what happened, else what to expect. */
export function span(step: ScoreStep, now: number | null): [number, number, boolean] {
  if (step.start_s !== null) {
    const open = step.finish_s === null;
    return [step.start_s, open ? Math.max(now ?? step.start_s, step.start_s) : (step.finish_s ?? 0), false];
  }
  return [step.expected_start_s, step.expected_finish_s, true];
}

const markOf: Record<string, Bar["mark"]> = {
  "power-on": "boot",
  "await-heartbeat": "boot",
  "probe-service": "check",
  "power-off": "cleanup",
  unregister: "cleanup",
  "discard-clone": "cleanup",
  hold: "hold",
  "run-script": "script",
  probe: "check",
  notify: "notify",
  "name-copies": "name",
  "publish-names": "name",
  "put-names-back": "name",
  "publish-address": "door",
  "withdraw-address": "door",
  "shut-down": "close",
  fence: "fence",
  "lift-fence": "fence",
  sync: "sync",
  "reverse-copying": "sync",
};
/** What is done behind the verdict or the decision: drawn only once it has begun. */
export const AFTER = ["cleanup", "commit", "roll-back"];
/** Steps about a whole group, which has a row of its own. */
const OF_GROUPS = ["sync", "promote", "demote", "let-points-go", "changes-since", "reverse-copying", "unprotect"];
/** Steps of cues, which may stand between workloads on rows of their own. */
const CUES = ["hold", "run-script", "probe", "pause", "notify", "name-copies", "publish-names", "publish-address"];

function bar(step: ScoreStep, now: number | null): Bar[] {
  const tried = step.attempt > 0;
  if ((step.status === "cancelled" || step.status === "skipped") && !tried) return [];
  const [from, to, ahead] = span(step, now);
  const mark = markOf[step.verb] ?? (step.workload ? "prepare" : "shared");
  const often = step.decides ? `, decides the time in ${Math.round(step.decides * 100)} % of runs` : "";
  const title = `${step.workload ?? ""} ${step.title}`.trim() + often;
  const vain = step.status === "failed" || (step.status === "skipped" && tried);
  const bars: Bar[] = [{ step: step.id, mark, from, to, ahead, title, vain }];
  for (const [at, earlier] of step.tries.entries()) {
    const told = `${title}, try ${at + 1} failed`;
    bars.push({ step: step.id, mark, from: earlier.from_s, to: earlier.to_s, ahead: false, title: told, vain: true }, { step: step.id, mark: "fail", from: earlier.to_s, to: earlier.to_s, ahead: false, title: told });
  }
  // A running step has a part that is still ahead.
  if (!ahead && step.finish_s === null && step.expected_finish_s > to + SECONDS_AHEAD_SHOWN && !step.person) {
    bars.push({ step: step.id, mark, from: to, to: step.expected_finish_s, ahead: true, title });
  }
  if (step.delay_s > 0) {
    const first = step.tries[0]?.from_s ?? from;
    const begin = Math.max(first - step.delay_s, 0);
    const rest: Bar = { step: step.id, mark: "rest", from: begin, to: first, ahead, title: step.verb === "pause" ? title : `Boot delay ${step.delay_s} s` };
    if (step.verb === "pause") return [rest];
    bars.unshift(rest);
  }
  if (vain) {
    bars.push({ step: step.id, mark: "fail", from: to, to, ahead: false, title: `${title} ${step.status}: ${step.reason}` });
  }
  return bars;
}

function merged(bars: Bar[]): Bar[] {
  const out: Bar[] = [];
  for (const next of bars) {
    const last = out.at(-1);
    const joins =
      last && last.mark === next.mark && last.ahead === next.ahead && next.from - last.to < SECONDS_AHEAD_SHOWN;
    if (joins && (next.mark === "prepare" || next.mark === "boot" || next.mark === "cleanup")) {
      last.to = Math.max(last.to, next.to);
      last.title = `${last.title.split(":")[0]}`;
      last.step = next.step;
    } else out.push({ ...next });
  }
  return out;
}

const busyWords: Record<string, string> = {
  "clone-point": "cloning",
  register: "registering",
  "set-size": "sizing",
  "attach-nics": "attaching",
  "set-addresses": "addresses",
  "power-on": "powering on",
  "await-heartbeat": "booting",
  "probe-service": "checking",
  "run-script": "running a script",
  probe: "checking",
  "power-off": "powering off",
  unregister: "unregistering",
  "discard-clone": "discarding",
  "shut-down": "shutting down",
  fence: "fencing",
  "lift-fence": "lifting fence",
  "name-copies": "naming copies",
  "publish-names": "changing names",
  "put-names-back": "changing names",
  "publish-address": "opening doors",
  "withdraw-address": "closing doors",
  sync: "copying",
  promote: "promoting",
  demote: "discarding",
  "reverse-copying": "copying back",
};

function stateOf(steps: ScoreStep[], lost: string[]): [string, Row["stateTone"]] {
  const failed = steps.find((step) => step.status === "failed");
  if (failed) return ["failed", "bad"];
  const busy = steps.find((step) => step.status === "asked");
  if (busy?.site && lost.includes(busy.site)) return ["unreachable", "bad"];
  if (busy) return [busyWords[busy.verb] ?? busy.verb, "busy"];
  const again = steps.find((step) => step.id.startsWith("start-again:"));
  if (again?.status === "done") return ["back at its source", "plain"];
  const cleanup = steps.filter((step) => step.phase === "cleanup");
  if (cleanup.length && cleanup.every((step) => step.status === "done" || step.status === "skipped")) return ["gone", "plain"];
  const boot = steps.filter((step) => step.phase === "bring-up");
  const settled = (step: ScoreStep) => ["done", "skipped", "cancelled"].includes(step.status);
  if (boot.length && boot.every(settled)) {
    const on = boot.some((step) => step.verb === "power-on" && step.status === "done");
    const twice = boot.some((step) => step.attempt > 1);
    return on ? [twice ? "ready, 2nd try" : "ready", "done"] : ["left out", "plain"];
  }
  if (steps.some((step) => step.verb === "fence" && step.status === "done")) return ["off and fenced", "plain"];
  if (steps.some((step) => step.verb === "shut-down" && step.status === "done")) return ["off", "plain"];
  if (!boot.length && steps.filter((step) => step.phase === "prepare").every(settled)) return ["left off", "plain"];
  return ["waits", "plain"];
}

/** Rows of the score in order: the sandbox, then every wave with its workloads. */
export function rowsOf(all: ScoreStep[], waves: string[], now: number | null, lost: string[] = []): Row[] {
  // A forecast ends with the last check, and cleanup is drawn only once it has begun.
  const begun = now !== null && all.some((step) => AFTER.includes(step.phase) && step.start_s !== null);
  // Of the branch that was not taken nothing is drawn.
  const steps = all.filter((step) => !AFTER.includes(step.phase) || (begun && step.status !== "cancelled"));
  const byWorkload = new Map<string, ScoreStep[]>();
  const shared: ScoreStep[] = [];
  const groups = new Map<string, ScoreStep[]>();
  // Cues of waves, and of the plan: those before its first wave opens, and those behind everything.
  const cues = new Map<number, ScoreStep[]>();
  const opening = steps.findIndex((step) => step.verb === "open-wave");
  for (const [at, step] of steps.entries()) {
    if (step.workload) {
      const own = byWorkload.get(step.workload);
      if (own) own.push(step);
      else byWorkload.set(step.workload, [step]);
    } else if (CUES.includes(step.verb)) {
      const place = step.wave ?? (at < opening ? -1 : waves.length);
      cues.set(place, [...(cues.get(place) ?? []), step]);
    } else if (OF_GROUPS.includes(step.verb)) {
      const group = step.id.split(":")[1] ?? "";
      groups.set(group, [...(groups.get(group) ?? []), step]);
    } else if (step.site) shared.push(step);
  }
  const rows: Row[] = [];
  const live = all.some((step) => step.phase === "hand-over");
  if (shared.length) rows.push(row("sandbox", null, null, live ? "sites" : "sandbox", true, shared, now, lost));
  for (const [group, its] of groups) rows.push(row(`group ${group}`, null, null, group, !rows.length, its, now, lost));
  for (const cue of cues.get(-1) ?? []) rows.push(row(cue.id, null, null, cue.title, false, [cue], now, lost));
  waves.forEach((_, wave) => {
    let first = true;
    // Those that come after the wave stand below its workloads.
    const own = cues.get(wave) ?? [];
    const begins = Math.min(...steps.filter((step) => step.workload && step.wave === wave && step.verb === "power-on").map((step) => span(step, now)[0]));
    const early = own.filter((cue) => span(cue, now)[0] <= begins);
    for (const cue of early) {
      rows.push(row(cue.id, null, wave, cue.title, first, [cue], now, lost));
      first = false;
    }
    for (const [workload, its] of byWorkload) {
      if (its[0]?.wave !== wave) continue;
      rows.push(row(workload, workload, wave, workload, first, its, now, lost));
      first = false;
    }
    for (const cue of own.filter((one) => !early.includes(one))) {
      rows.push(row(cue.id, null, wave, cue.title, first, [cue], now, lost));
      first = false;
    }
  });
  for (const cue of cues.get(waves.length) ?? []) rows.push(row(cue.id, null, null, cue.title, false, [cue], now, lost));
  return rows;
}

function row(
  key: string,
  workload: string | null,
  wave: number | null,
  label: string,
  first: boolean,
  steps: ScoreStep[],
  now: number | null,
  lost: string[],
): Row {
  const sorted = [...steps].sort((a, b) => span(a, now)[0] - span(b, now)[0]);
  const bars = merged(sorted.flatMap((step) => bar(step, now)).sort((a, b) => a.from - b.from));
  const boot = steps.filter((step) => step.phase === "bring-up");
  const [state, stateTone] = workload ? stateOf(steps, lost) : holdState(steps);
  const high = boot.filter((step) => step.high_s !== undefined && step.verb !== "hold").at(-1);
  return {
    key,
    workload,
    wave,
    label,
    first,
    bars,
    ghost: boot.length
      ? [Math.min(...boot.map((step) => step.planned_start_s)), Math.max(...boot.map((step) => step.planned_finish_s))]
      : null,
    whisker: workload && high ? [high.low_s ?? 0, high.high_s ?? 0] : null,
    critical: steps
      .filter((step) => step.critical && !AFTER.includes(step.phase) && step.status !== "skipped")
      .map((step) => {
        const [from, to] = span(step, now);
        return [Math.max(from - step.delay_s, 0), to] as [number, number];
      }),
    state,
    stateTone,
  };
}

function holdState(steps: ScoreStep[]): [string, Row["stateTone"]] {
  const only = steps.length === 1 ? steps[0] : undefined;
  if (only?.status === "person") return ["waits for you", "busy"];
  if (only?.status === "asked") return [busyWords[only.verb] ?? only.verb, "busy"];
  if (only?.status === "done") return [only.verb === "hold" ? "answered" : "done", "done"];
  const failed = steps.some((step) => step.status === "failed");
  if (failed) return ["failed", "bad"];
  const busy = steps.find((step) => step.status === "asked" && OF_GROUPS.includes(step.verb));
  return busy ? [busyWords[busy.verb] ?? "", "busy"] : ["", "plain"];
}

/** Where each part of a live run begins, for the headings above the axis. */
export function parts(steps: ScoreStep[], now: number | null): { label: string; from: number }[] {
  const labels: [string, string][] = [
    ["close-down", "close-down"],
    ["hand-over", "hand-over"],
    ["bring-up", "bring-up"],
    ["commit", "commit"],
    ["roll-back", "roll back"],
  ];
  if (!steps.some((step) => step.phase === "hand-over")) return [];
  return labels.flatMap(([phase, label]) => {
    const own = steps.filter((step) => step.phase === phase && step.site && !["cancelled", "skipped"].includes(step.status));
    const shown = AFTER.includes(phase) ? own.filter((step) => step.start_s !== null) : own;
    return shown.length ? [{ label, from: Math.min(...shown.map((step) => span(step, now)[0])) }] : [];
  });
}

/** The last second that the axis must show. */
export function extent(steps: ScoreStep[], objective: number, now: number | null, withCleanup: boolean): number {
  let end = Math.max(objective, now ?? 0);
  for (const step of steps) {
    if (AFTER.includes(step.phase) && (!withCleanup || step.status === "cancelled")) continue;
    const [, to] = span(step, now);
    end = Math.max(end, to, step.high_s ?? 0);
  }
  return end * 1.04;
}

/** Round steps for the axis, at most about ten. */
export function ticks(end: number, room: number): number[] {
  const choices = [10, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 14_400];
  const step = choices.find((choice) => end / choice <= Math.max(room / 80, 2)) ?? 28_800;
  return Array.from({ length: Math.floor(end / step) + 1 }, (_, i) => i * step);
}
