import type { SideView } from "@/api/types";

/** What an adapter gets on one side, as one text. */
export function landed(side: SideView | null | undefined): string {
  if (!side) return "nowhere";
  if (!side.connected) return "disconnected";
  if (side.dhcp) return side.addresses.length ? `${side.addresses.join(", ")} by DHCP` : "DHCP";
  return side.addresses.join(", ") || "no address";
}
