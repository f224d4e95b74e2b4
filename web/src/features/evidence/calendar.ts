import { wallClock } from "@/ui/format";
import type { DrillCalendar, DrillTime, DrillView } from "@/api/types";

/** One time of a drill with the day that it is on for the reader, as 2026-12-01. */
export interface Dated {
  view: DrillView;
  drill: DrillView["drill"];
  planName: string;
  time: DrillTime;
  day: string;
}

/** A shape for every state, so that nothing is only colour. */
export const drillShapes: Record<string, string> = { ahead: "○", open: "◔", done: "✓", missed: "✕", "left-out": "–" };

/** The day that a moment is on for whoever reads, as 2026-12-01. */
export function dayOf(at: Date): string {
  return wallClock(at.toISOString()).slice(0, 10);
}

/** All times of all drills, in order. */
export function dated(calendar: DrillCalendar): Dated[] {
  return calendar.drills
    .flatMap((view) => view.times.map((time) => ({ view, drill: view.drill, planName: view.plan_name, time, day: dayOf(new Date(time.at)) })))
    .sort((a, b) => a.time.at.localeCompare(b.time.at));
}

/** The day that a moment is on in a time zone, as 2026-12-01: what a drill leaves out is told so. */
export function dayIn(zone: string, at: string): string {
  return new Intl.DateTimeFormat("en-CA", { timeZone: zone, year: "numeric", month: "2-digit", day: "2-digit" }).format(new Date(at));
}
