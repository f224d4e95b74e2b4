import type { Standing } from "@/api/types";
import { count } from "@/ui/format";

export interface Verdict {
  kinds: string[];
  /** What is in the way, in sentences; empty where nothing is. */
  blocking: string[];
  warns: number[];
}
/** Kinds of run that stand alike, said once. */
export function verdicts(kinds: Standing["kinds"]): Verdict[] {
  const found = new Map<string, Verdict>();
  for (const one of kinds) {
    const key = one.blocking.join("\n");
    const same = found.get(key) ?? { kinds: [], blocking: one.blocking, warns: [] };
    same.kinds.push(one.kind);
    same.warns.push(one.warns);
    found.set(key, same);
  }
  return [...found.values()];
}
export function why(one: Verdict): string {
  const [first = "", ...more] = one.blocking;
  const [least, most] = [Math.min(...one.warns), Math.max(...one.warns)];
  if (first) return more.length ? `${first} And ${count(more.length, "more thing")}.` : first;
  return least < most ? `${least} to ${count(most, "warning")}` : most ? count(most, "warning") : "";
}

/** In words that a list can be narrowed by. */
export function wordsOf(standing: Standing | null): string[] {
  if (!standing) return [];
  const words = [standing.kinds.some((kind) => kind.blocking.length) ? "blocked" : "ready"];
  if (!standing.last_proof) words.push("never tested");
  else if (standing.last_proof.overdue) words.push("overdue");
  if (standing.active_run) words.push("under way");
  if (standing.forecast && standing.forecast.p80_s > standing.forecast.objective_s) words.push("too slow");
  return words;
}
