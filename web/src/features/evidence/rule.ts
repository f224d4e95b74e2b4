/** Recurrence as people choose it, and as a rule of RFC 5545. */
export interface Recurrence {
  unit: "once" | "DAILY" | "WEEKLY" | "MONTHLY" | "YEARLY" | "own";
  every: number;
  /** Of a week: MO, TU, … */
  days: string[];
  /** Of a month: the first (1) to fourth, or last (-1) such day; 0 for the day of the month of the start. */
  place: number;
  own: string;
}

export const DAYS: [string, string][] = [
  ["MO", "Monday"], ["TU", "Tuesday"], ["WE", "Wednesday"], ["TH", "Thursday"], ["FR", "Friday"], ["SA", "Saturday"], ["SU", "Sunday"],
];
export const PLACES: [number, string][] = [[1, "first"], [2, "second"], [3, "third"], [4, "fourth"], [-1, "last"]];

const plain = (): Recurrence => ({ unit: "once", every: 1, days: [], place: 0, own: "" });

/** The rule that was chosen; empty for once. */
export function ruleOf(chosen: Recurrence): string {
  if (chosen.unit === "once") return "";
  if (chosen.unit === "own") return chosen.own.trim();
  const parts = [`FREQ=${chosen.unit}`];
  if (chosen.every > 1) parts.push(`INTERVAL=${chosen.every}`);
  if (chosen.unit === "WEEKLY" && chosen.days.length) parts.push(`BYDAY=${DAYS.map(([day]) => day).filter((day) => chosen.days.includes(day)).join(",")}`);
  if (chosen.unit === "MONTHLY" && chosen.place && chosen.days[0]) parts.push(`BYDAY=${chosen.place}${chosen.days[0]}`);
  return parts.join(";");
}

/** A rule as it can be chosen; what cannot stays a rule of one's own. */
export function recurrenceOf(rule: string): Recurrence {
  if (!rule) return plain();
  const own: Recurrence = { ...plain(), unit: "own", own: rule };
  const parts = new Map(rule.replace(/^RRULE:/, "").split(";").map((part) => part.split("=") as [string, string]));
  const unit = parts.get("FREQ");
  const every = Number(parts.get("INTERVAL") ?? "1");
  const by = parts.get("BYDAY");
  for (const known of ["FREQ", "INTERVAL", "BYDAY"]) parts.delete(known);
  if (parts.size || !Number.isInteger(every) || (unit !== "DAILY" && unit !== "WEEKLY" && unit !== "MONTHLY" && unit !== "YEARLY")) return own;
  if (!by) return { ...plain(), unit, every };
  if (unit === "WEEKLY" && by.split(",").every((day) => DAYS.some(([known]) => known === day))) return { ...plain(), unit, every, days: by.split(",") };
  const match = /^(-1|[1-4])([A-Z]{2})$/.exec(by);
  return unit === "MONTHLY" && match ? { ...plain(), unit, every, place: Number(match[1]), days: [match[2] ?? "MO"] } : own;
}
