/** The fields of what a site has, for one dialog that edits them all. */
export type Kind = "host_pools" | "storage_pools" | "networks" | "front_doors";
export interface Field {
  key: string;
  label: string;
  type: "text" | "number" | "yes" | "list" | "pairs" | "choice";
  choices?: string[];
}

export const TITLES: Record<Kind, string> = { host_pools: "host pool", storage_pools: "storage pool", networks: "network", front_doors: "front door" };
export const FIELDS: Record<Kind, Field[]> = {
  host_pools: [
    { key: "name", label: "Name", type: "text" },
    { key: "hosts", label: "Hosts", type: "number" },
    { key: "standby_hosts", label: "of them in standby", type: "number" },
    { key: "cores", label: "Cores", type: "number" },
    { key: "memory_mib", label: "Memory in MiB", type: "number" },
    { key: "used_cores", label: "Cores in use", type: "number" },
    { key: "used_memory_mib", label: "Memory in use, MiB", type: "number" },
  ],
  storage_pools: [
    { key: "name", label: "Name", type: "text" },
    { key: "capacity_gib", label: "Capacity in GiB", type: "number" },
    { key: "used_gib", label: "Used GiB", type: "number" },
    { key: "replicated", label: "is itself replicated", type: "yes" },
  ],
  networks: [
    { key: "name", label: "Name", type: "text" },
    { key: "vlan", label: "VLAN", type: "number" },
    { key: "prefixes", label: "Prefixes, one a line", type: "list" },
    { key: "gateways", label: "Gateways, one a line", type: "list" },
    { key: "dns", label: "DNS servers, one a line", type: "list" },
    { key: "role", label: "Role", type: "choice", choices: ["production", "sandbox", "transit"] },
    { key: "dhcp", label: "gives addresses by DHCP", type: "yes" },
    { key: "dhcp_ranges", label: "DHCP ranges, first-last a line", type: "list" },
    { key: "reservations", label: "Reservations, MAC=address a line", type: "pairs" },
    { key: "routes_to", label: "Routes to, a network a line", type: "list" },
    { key: "stretched_with", label: "Stretched with, SITE/network", type: "text" },
  ],
  front_doors: [
    { key: "name", label: "Name", type: "text" },
    { key: "address", label: "Address", type: "text" },
    { key: "ports", label: "Ports, one a line, such as tcp/443", type: "list" },
    { key: "workload", label: "Leads to the workload", type: "text" },
    { key: "sources", label: "Open to, a prefix a line (nothing: to everybody)", type: "list" },
  ],
};
const FRESH: Record<Kind, Record<string, unknown>> = {
  host_pools: { name: "", hosts: 2, standby_hosts: 0, cores: 64, memory_mib: 262_144, used_cores: 0, used_memory_mib: 0 },
  storage_pools: { name: "", capacity_gib: 10_000, used_gib: 0, replicated: false },
  networks: { name: "", vlan: 0, prefixes: [], gateways: [], dns: [], role: "production", dhcp: false, dhcp_ranges: [], reservations: {}, routes_to: [], stretched_with: null },
  front_doors: { name: "", address: "", ports: ["tcp/443"], workload: "", sources: [] },
};
export const fresh = (kind: Kind): Record<string, unknown> => structuredClone(FRESH[kind]);

/** A value as the text of its field, and back. */
export function toText(field: Field, value: unknown): string {
  if (field.type === "list") return (value as string[]).join("\n");
  if (field.type === "pairs") return Object.entries(value as Record<string, string>).map(([key, one]) => `${key}=${one}`).join("\n");
  return String(value ?? "");
}
export function fromText(field: Field, text: string): unknown {
  const lines = text.split("\n").map((line) => line.trim()).filter(Boolean);
  if (field.type === "list") return lines;
  if (field.type === "pairs") return Object.fromEntries(lines.map((line) => [line.split("=")[0] ?? "", line.split("=").slice(1).join("=")]));
  if (field.type === "number") return Number(text) || 0;
  if (field.key === "stretched_with") return text.trim() || null;
  return text;
}
