import type { Member, Plan } from "@/api/types";
import { bringTo, find, moveTo, MOST_WAVES } from "@/features/plans/draft";
import { duration } from "@/ui/format";

/** One column of the table: how a member's value is shown, and how a text becomes one. */
export interface Column {
  key: string;
  title: string;
  show: (member: Member, wave: number) => string;
  /** Changes the plan, or says why the text is not a value. */
  put: (plan: Plan, workload: string, text: string) => string | void;
}

const READY: Record<string, Member["ready"]> = { checks: "checks", heartbeat: "heartbeat", "powered-on": "powered-on", "at-once": "at-once" };
const FAILS: Record<string, Member["on_failure"]> = { ask: "ask", "go-on": "go-on", stop: "stop" };
const YES: Record<string, boolean> = { yes: true, no: false };

function seconds(text: string): number | null {
  const clocked = /^(\d+):([0-5]\d)$/.exec(text.trim());
  if (clocked) return Number(clocked[1]) * 60 + Number(clocked[2]);
  const plain = /^(\d+)\s*(s|min|h)?$/.exec(text.trim());
  if (!plain) return text.trim() ? null : 0;
  return Number(plain[1]) * ({ s: 1, min: 60, h: 3600 }[plain[2] ?? "s"] ?? 1);
}

function time(field: "delay_s" | "ready_timeout_s" | "shutdown_limit_s", title: string, least: number): Column {
  return {
    key: field, title, show: (member) => (member[field] ? duration(member[field]) : ""),
    put(plan, workload, text) {
      const value = seconds(text);
      if (value === null || value < least || value > 86_400) return `${title} is '${text}'; give ${least} s to 24 h, such as 90, 2 min or 1:30.`;
      const found = find(plan, workload);
      if (found) found[1][field] = value;
    },
  };
}

function word<K extends "ready" | "on_failure" | "power_on" | "force_off">(field: K, title: string, words: Record<string, Member[K]>): Column {
  return {
    key: field, title, show: (member) => Object.entries(words).find(([, value]) => value === member[field])?.[0] ?? "",
    put(plan, workload, text) {
      const value = words[text.trim().toLowerCase()];
      if (value === undefined) return `${title} is '${text}'; give ${Object.keys(words).join(", ")}.`;
      const found = find(plan, workload);
      if (found) found[1][field] = value;
    },
  };
}

function size(field: "cores" | "memory_mib", title: string): Column {
  return {
    key: field, title, show: (member) => String(member[field] ?? ""),
    put(plan, workload, text) {
      const value = text.trim() ? Number(text) : null;
      if (value !== null && !(Number.isInteger(value) && value > 0)) return `${title} is '${text}'; give a whole number, or nothing for the size it has.`;
      const found = find(plan, workload);
      if (found) found[1][field] = value;
    },
  };
}

export const COLUMNS: Column[] = [
  {
    key: "wave", title: "Wave", show: (_, wave) => String(wave + 1),
    put(plan, workload, text) {
      const to = Number(text) - 1;
      if (!(Number.isInteger(to) && to >= 0 && to < MOST_WAVES)) return `Wave is '${text}'; give 1 to ${MOST_WAVES}.`;
      moveTo(plan, [workload], to);
    },
  },
  time("delay_s", "Boot delay", 0),
  {
    key: "depends_on", title: "Waits for", show: (member) => member.depends_on.join(", "),
    put(plan, workload, text) {
      const names = text.split(/[,;\s]+/).filter(Boolean);
      const strange = names.find((name) => !find(plan, name) || name === workload);
      if (strange) return `Waits for '${strange}'; name other workloads of the plan.`;
      const found = find(plan, workload);
      if (found) found[1].depends_on = names;
    },
  },
  word("ready", "Ready when", READY),
  time("ready_timeout_s", "Gives up after", 1),
  word("on_failure", "When it fails", FAILS),
  word("power_on", "Power on", YES),
  size("cores", "Cores there"),
  size("memory_mib", "Memory there, MiB"),
  time("shutdown_limit_s", "Shuts down within", 1),
  word("force_off", "Then cut", YES),
];

export interface Refusal {
  row: number;
  said: string;
}

/**
 * Put a block of cells, as a spreadsheet copies it, at a row and column. What fits is put, what does not is
 * said; a name that the plan does not have joins it in the last wave, and its findings say if nobody knows it.
 */
export function putBlock(plan: Plan, text: string, row: number, column: number, rows: string[]): Refusal[] {
  const refused: Refusal[] = [];
  const lines = text.replace(/\r/g, "").replace(/\n$/, "").split("\n").map((line) => line.split("\t"));
  const parsed = lines.map((cells, index) => ({ cells, name: column < 0 ? (cells[0]?.trim() ?? "") : (rows[row + index] ?? ""), number: row + index + 1 }));
  for (const { name, number } of parsed) {
    if (!name) refused.push({ row: number, said: "There is no workload in this row." });
    else if (!find(plan, name)) bringTo(plan, [name], Math.max(plan.waves.length - 1, 0));
  }
  // Waves first, so that nobody is said to wait for a later one that is about to move.
  for (const pass of [0, 1]) {
    for (const { cells, name, number } of parsed) {
      if (!name || !find(plan, name)) continue;
      cells.forEach((cell, offset) => {
        const at = column + offset;
        const into = COLUMNS[at];
        if (at < 0 || !into || (into.key === "wave") !== (pass === 0)) return;
        const said = into.put(plan, name, cell);
        if (said) refused.push({ row: number, said: `${name}: ${said}` });
      });
    }
  }
  return refused;
}

