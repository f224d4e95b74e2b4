import type { GroupPoints } from "@/api/types";

/** The points of a group in one row. */
export type PointRow = Pick<GroupPoints, "group" | "name" | "points" | "changes" | "hint" | "proved">;

/** So many times the usual changes are worth a look. */
export const UNUSUAL = 3;
const BEYOND = 100;
/** How many times its usual something changed, in words; where hardly anything is usual, no number means much. */
export const timesUsual = (times: number) => `${times >= BEYOND ? `over ${BEYOND}` : times.toFixed(1)} × the usual`;
const TOGETHER_MS = 7_200_000;
const SLACK_MS = 700_000;
const STEPS = [5, 15, 30, 60, 300, 600, 1800, 3600, 10_800, 21_600, 43_200, 86_400, 2 * 86_400, 5 * 86_400];

export interface Burst {
  from: number;
  to: number;
  times: number;
}

/**
 * How fast something changes, as the outline of an area of `height` pixels, and the bursts of unusual changes in it.
 * Times in ms; `x` gives the pixel of a time.
 */
export function changeCurve(changes: GroupPoints["changes"], begin: number, to: number, height: number, x: (ms: number) => number): { area: string; bursts: Burst[] } {
  const rates = changes.map((one) => ({ at: new Date(one.at).getTime(), rate: one.rate_bps, times: one.anomaly }));
  const seen = rates.filter((one) => one.at >= begin - SLACK_MS && one.at <= to + SLACK_MS);
  const first = seen[0];
  const last = seen.at(-1);
  if (!first || !last) return { area: "", bursts: [] };
  const top = Math.max(1, ...seen.map((one) => one.rate));
  const y = (rate: number) => height - 6 - (rate / top) * (height - 26);
  const line = seen.map((one) => `${x(one.at).toFixed(1)} ${y(one.rate).toFixed(1)}`);
  const area = `M${x(first.at)} ${height - 6} L${line.join(" L")} L${x(Math.max(last.at, to))} ${y(last.rate)} V${height - 6} Z`;
  const bursts: Burst[] = [];
  for (const one of seen) {
    if (one.times < UNUSUAL) continue;
    const before = bursts.at(-1);
    if (before && one.at - before.to < TOGETHER_MS) {
      before.to = one.at;
      before.times = Math.max(before.times, one.times);
    } else bursts.push({ from: one.at, to: one.at + 600_000, times: one.times });
  }
  return { area, bursts };
}

/** Round times in ms for an axis from `begin` to `to`, about `many` of them. */
export function axisTicks(begin: number, to: number, many: number): number[] {
  const wanted = (to - begin) / 1000 / Math.max(many, 1);
  const step = (STEPS.find((one) => one >= wanted) ?? 5 * 86_400) * 1000;
  const first = Math.ceil(begin / step) * step;
  return Array.from({ length: Math.max(Math.floor((to - first) / step) + 1, 0) }, (_, i) => first + i * step);
}
