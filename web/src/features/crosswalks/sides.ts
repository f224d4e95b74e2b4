import type { Crosswalk, CrosswalkDetail, LandingsView } from "@/api/types";
import type { Item } from "@/features/crosswalks/ThreadBoard.vue";
import { ISOLATED, type Kind } from "@/features/crosswalks/edit";
import { count } from "@/ui/format";

/** What the source has of a kind, with who uses it. */
export function sourceItems(detail: CrosswalkDetail, kind: Kind): Item[] {
  return detail.sources
    .filter((one) => one.kind === kind)
    .map((one) => {
      const network = kind === "network" ? detail.source_networks.find((candidate) => candidate.name === one.name) : undefined;
      const stretched = network?.stretched_with ? ` ⇄ ${network.stretched_with}` : "";
      return { name: one.name, workloads: one.workloads, said: network ? `${network.prefixes.join(", ")} VLAN ${network.vlan}${network.dhcp ? " DHCP" : ""}${stretched}` : "" };
    });
}
/** What the target has of a kind, with the room that is left there. */
export function targetItems(detail: CrosswalkDetail, kind: Kind, landings: LandingsView | null): Item[] {
  const there = detail.targets;
  if (kind === "folder") return there.folders.map((name) => ({ name, said: "" }));
  if (kind === "network") {
    const own: Item = { name: ISOLATED, said: "an isolated network of its own", more: "each test makes it and takes it away" };
    return [
      own,
      ...there.networks.map((network) => ({
        name: network.name,
        said: `${network.prefixes.join(", ")} VLAN ${network.vlan}${network.dhcp ? " DHCP" : ""}`,
        more: network.role === "sandbox" ? "sandbox, for tests" : network.stretched_with ? `stretched with ${network.stretched_with}` : network.role,
      })),
    ];
  }
  const rooms = (name: string) => {
    const wanted = (landings?.rooms ?? []).filter((one) => one.room.pool === name);
    const said = (side: "live" | "test") =>
      wanted.filter((one) => one.side === side).map(({ room }) => `${room.wanted > room.free ? "▲ " : ""}${room.wanted} of ${room.free} ${room.what === "cores" ? "cores" : "GiB"}`).join(", ");
    const [live, test] = [said("live"), said("test")];
    return live === test ? live : [live && `live ${live}`, test && `in a test ${test}`].filter(Boolean).join("; ");
  };
  if (kind === "host pool") return there.host_pools.map((pool) => ({ name: pool.name, said: `${pool.hosts} hosts${pool.standby_hosts ? `, ${pool.standby_hosts} in standby` : ""}`, more: rooms(pool.name) }));
  return there.storage_pools.map((pool) => ({ name: pool.name, said: `${pool.capacity_gib - pool.used_gib} GiB free`, more: rooms(pool.name), warn: pool.replicated ? "itself replicated, cannot be landed on" : "" }));
}

/** How much of the source has a place, in the sentence that the page opens with. */
export function crosswalkSentence(crosswalk: Crosswalk | null | undefined, now: LandingsView | null, names: { from: string; to: string }): string {
  if (!now || !crosswalk) return `${names.from} to ${names.to}`;
  if (!now.workloads) return `There are no workloads at ${names.from} that could land at ${names.to}.`;
  const nothing = !crosswalk.networks.length && !crosswalk.host_pools.length;
  if (nothing) return `Nothing says yet where the ${count(now.workloads, "workload")} of ${names.from} would come down at ${names.to}. Match what is alike, then join the rest.`;
  const all = now.placed === now.workloads;
  const first = `${all ? "All" : `${now.placed} of the`} ${count(now.workloads, "workload")} of ${names.from} ${now.placed === 1 ? "has" : "have"} a place at ${names.to} that works.`;
  const missing = now.unmapped.length ? ` ${count(now.unmapped.length, "thing")} ${now.unmapped.length === 1 ? "is" : "are"} not mapped.` : "";
  const wrong = now.warns ? ` ${count(now.warns, "finding warns", "findings warn")}.` : all && !now.blocks ? " Nothing is wrong." : "";
  return first + missing + wrong;
}
