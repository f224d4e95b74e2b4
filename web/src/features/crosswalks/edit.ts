import type { AddressRule, Crosswalk, CrosswalkDetail, NicEntry, NicSide, Proposal, Readdress, WorkloadEntry } from "@/api/types";

export type Kind = "network" | "host pool" | "storage pool" | "folder";
export const KINDS: Kind[] = ["network", "host pool", "storage pool", "folder"];
/** Stands on the target side for 'each test makes its own'. */
export const ISOLATED = "";
export const TITLES: Record<Kind, string> = { network: "Networks", "host pool": "Host pools", "storage pool": "Storage pools", folder: "Folders" };

const LISTS = { "host pool": "host_pools", "storage pool": "storage_pools", folder: "folders" } as const;

export interface Thread {
  source: string;
  target: string;
  side: "live" | "test";
}

/** Every thread of one kind. */
export function threadsOf(crosswalk: Crosswalk, kind: Kind): Thread[] {
  if (kind === "network") {
    return crosswalk.networks.flatMap((row): Thread[] => [
      { source: row.source, target: row.live, side: "live" },
      { source: row.source, target: row.sandbox ?? ISOLATED, side: "test" },
    ]);
  }
  return crosswalk[LISTS[kind]].map((row) => ({ source: row.source, target: row.target, side: "live" }));
}

/** Whether joining to a target is about tests: sandboxes are for tests, all else is for live. */
export function sideOf(detail: CrosswalkDetail, kind: Kind, target: string): "live" | "test" {
  if (kind !== "network") return "live";
  if (target === ISOLATED) return "test";
  return detail.targets.networks.find((network) => network.name === target)?.role === "sandbox" ? "test" : "live";
}

/** Join sources to a target; gives back those that cannot be, because a test needs a live row first. */
export function join(crosswalk: Crosswalk, kind: Kind, sources: string[], target: string, side: "live" | "test"): string[] {
  const left: string[] = [];
  for (const source of sources) {
    if (kind !== "network") {
      const list = crosswalk[LISTS[kind]];
      const row = list.find((one) => one.source === source);
      if (row) row.target = target;
      else list.push({ source, target });
      continue;
    }
    const row = crosswalk.networks.find((one) => one.source === source);
    if (side === "live") {
      if (row) row.live = target;
      else crosswalk.networks.push({ source, live: target, sandbox: null });
    } else if (row) row.sandbox = target === ISOLATED ? null : target;
    else left.push(source);
  }
  return left;
}

/** Take the rows of sources away. */
export function unjoin(crosswalk: Crosswalk, kind: Kind, sources: string[]): void {
  if (kind === "network") crosswalk.networks = crosswalk.networks.filter((row) => !sources.includes(row.source));
  else crosswalk[LISTS[kind]] = crosswalk[LISTS[kind]].filter((row) => !sources.includes(row.source));
}

/** Add what a proposal says. */
export function accept(crosswalk: Crosswalk, proposal: Proposal): void {
  if (proposal.network) crosswalk.networks.push(proposal.network);
  if (proposal.rule) crosswalk.address_rules.push(proposal.rule);
  if (proposal.pool && proposal.kind !== "network" && proposal.kind !== "address rule") crosswalk[LISTS[proposal.kind]].push(proposal.pool);
}

export const newReaddress = (): Readdress => ({ action: "translate", to: null, gateway: null, dns: [], suffix: "" });
export const newRule = (prefix: string): AddressRule => ({ prefix, live: newReaddress(), test: newReaddress() });
export const newSide = (): NicSide => ({ disconnected: false, network: null, dhcp: false, addresses: null, gateways: null, dns: null });

/** The entry of one adapter; made where there is none. */
export function entryOf(crosswalk: Crosswalk, workload: string, nic: string): NicEntry {
  let entry = crosswalk.table.find((one) => one.workload === workload && one.nic === nic);
  if (!entry) {
    entry = { workload, nic, live: null, test: null, mac: null };
    crosswalk.table.push(entry);
  }
  return entry;
}

/** The exception of one workload; made where there is none. */
export function exceptionOf(crosswalk: Crosswalk, workload: string): WorkloadEntry {
  let entry = crosswalk.exceptions.find((one) => one.workload === workload);
  if (!entry) {
    entry = { workload, name: null, host_pool: null, folder: null, cores: null, memory_mib: null, storage_pools: {} };
    crosswalk.exceptions.push(entry);
  }
  return entry;
}

/** Entries and exceptions that say nothing are taken away. */
export function tidy(crosswalk: Crosswalk): void {
  crosswalk.table = crosswalk.table.filter((entry) => entry.live || entry.test || entry.mac);
  crosswalk.exceptions = crosswalk.exceptions.filter(
    (entry) => entry.name ?? entry.host_pool ?? entry.folder ?? entry.cores ?? entry.memory_mib ?? (Object.keys(entry.storage_pools).length || null),
  );
}

/** Words of a text: separated by spaces or commas. */
export const words = (text: string): string[] => text.split(/[\s,]+/).filter(Boolean);

/** Where a front door opens at the target; null takes its row away. */
export function setDoor(crosswalk: Crosswalk, source: string, change: { live?: string; test?: string } | null): void {
  const at = crosswalk.front_doors.findIndex((row) => row.source === source);
  if (change === null) {
    if (at >= 0) crosswalk.front_doors.splice(at, 1);
  } else if (at >= 0) Object.assign(crosswalk.front_doors[at]!, change);
  else crosswalk.front_doors.push({ source, live: "", test: "", ...change });
}

/** The first address that a machine can have in the first IPv4 prefix of these; empty where there is none. */
export function firstHost(prefixes: string[]): string {
  const parts = prefixes.find((one) => !one.includes(":"))?.split("/")[0]?.split(".").map(Number);
  return parts?.length === 4 ? [...parts.slice(0, 3), (parts[3] ?? 0) + 1].join(".") : "";
}
