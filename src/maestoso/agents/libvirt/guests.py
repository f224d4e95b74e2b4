"""What is asked of the inside of a Linux guest, by its guest agent: which addresses it has, and to have
others.

Addresses are set at once with ``ip`` and written where the distribution keeps them, so that they last."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from ipaddress import ip_interface
from typing import Any

from .hypervisor import GuestSilent, Hypervisor

LOOK = r"""
for d in /sys/class/net/*; do
  n=${d##*/}; [ "$n" = lo ] && continue
  echo "mac $n $(cat $d/address)"
  ip -o addr show dev $n scope global 2>/dev/null | while read -r _ _ kind at _; do
    case $kind in inet*) echo "at $n $at";; esac
  done
  ip route show default 2>/dev/null | grep " dev $n" | sed "s/^default via \([^ ]*\).*/gw $n \1/" | grep ^gw
  grep -qs "iface $n inet dhcp" /etc/network/interfaces /etc/network/interfaces.d/* && echo "dhcp $n"
  grep -qsE "^DHCP=(yes|ipv4)" /etc/systemd/network/*$n*.network && echo "dhcp $n"
done
sed -n 's/^nameserver \([^ ]*\).*/dns \1/p' /etc/resolv.conf 2>/dev/null
exit 0
"""

SET = r"""
set -e
find_nic() {
  for d in /sys/class/net/*; do [ "$(cat $d/address)" = "$1" ] && echo ${d##*/} && return; done
  return 1
}
N=$(find_nic "$MAC") || { echo "There is no adapter with the address $MAC."; exit 4; }
ip link set "$N" up
ip addr flush dev "$N"
for a in $ADDRESSES; do ip addr add "$a" dev "$N"; done
for g in $GATEWAYS; do ip route replace default via "$g" dev "$N"; done
if [ -n "$DNS$SUFFIX" ] && [ ! -L /etc/resolv.conf -o -w /etc/resolv.conf ]; then
  { [ -n "$SUFFIX" ] && echo "search $SUFFIX"
    for s in $DNS; do echo "nameserver $s"; done; } > /etc/resolv.conf || true
fi
if [ -d /etc/systemd/network ] && command -v networkctl >/dev/null 2>&1 && ! [ -s /etc/network/interfaces ]
then
  # Before all others of the distribution.
  { echo "[Match]"; echo "MACAddress=$MAC"; echo "[Network]"
    if [ -n "$DHCP" ]; then echo "DHCP=yes"; fi
    for a in $ADDRESSES; do echo "Address=$a"; done; for g in $GATEWAYS; do echo "Gateway=$g"; done
    for s in $DNS; do echo "DNS=$s"; done; [ -n "$SUFFIX" ] && echo "Domains=$SUFFIX"; } \
    > "/etc/systemd/network/00-$N.network"
  [ -z "$DHCP" ] || networkctl reload
elif [ -d /etc/network ]; then
  I=/etc/network/interfaces
  touch $I
  # All but the stanzas of this adapter is kept.
  awk -v n="$N" '
    /^[ \t]*(auto|allow-[a-z]+)[ \t]/ { if ($2 == n && NF == 2) next }
    /^[ \t]*iface[ \t]/ { mine = ($2 == n) }
    /^[ \t]*(auto|allow-[a-z]+|mapping|source)/ { mine = 0 }
    !mine { print }' $I > $I.new
  echo "auto $N" >> $I.new
  if [ -n "$DHCP" ]; then echo "iface $N inet dhcp" >> $I.new
  else printf '%s' "$STANZAS" | sed "s/@NIC@/$N/" >> $I.new; fi
  cat $I.new > $I; rm $I.new
  if [ -n "$DHCP" ]; then ifdown -f "$N" 2>/dev/null || true; ifup "$N"; fi
else
  echo "This guest has neither ifupdown nor systemd-networkd; the addresses would not last over a restart."
  exit 5
fi
sync
"""


class NotSet(Exception):
    """A guest could not be given its addresses; the text is why."""


def adapters(hypervisor: Hypervisor, name: str) -> dict[str, dict[str, Any]]:
    """What the adapters of a guest have, by MAC: ``addresses``, ``gateways``, ``dns``, ``dhcp``. Raises
    GuestSilent."""
    told = hypervisor.run_in_guest(name, LOOK)
    if told is None:
        raise GuestSilent("It was asked for its addresses, and did not answer in time.")
    found: dict[str, dict[str, Any]] = {}
    by_name: dict[str, dict[str, Any]] = {}
    servers = []
    for line in told[1].splitlines():
        match line.split():
            case ["mac", nic, mac]:
                by_name[nic] = found[mac.lower()] = {
                    "addresses": [],
                    "gateways": [],
                    "dns": [],
                    "dhcp": False,
                }
            case ["at", nic, address] if nic in by_name:
                by_name[nic]["addresses"].append(address)
            case ["gw", nic, gateway] if nic in by_name:
                by_name[nic]["gateways"].append(gateway)
            case ["dhcp", nic] if nic in by_name:
                by_name[nic]["dhcp"] = True
            case ["dns", server]:
                servers.append(server)
    for one in found.values():
        one["dns"] = servers if one["addresses"] else []
    return found


def set_addresses(
    hypervisor: Hypervisor,
    name: str,
    settings: Iterable[tuple[str, Mapping[str, Any]]],
    wait: Callable[[float], None],
) -> None:
    """Give adapters (by MAC) what they shall have. Raises NotSet, GuestSilent."""
    for mac, told in settings:
        ended = hypervisor.run_in_guest(name, SET, env=settings_of(mac, told), limit_s=120, wait=wait)
        if ended is None:
            raise NotSet("The guest did not take its addresses within 120 s.")
        if ended[0]:
            said = ended[1].strip()[-300:] or f"exit code {ended[0]}"
            raise NotSet(f"The guest did not take its addresses: {said}")


def settings_of(mac: str, told: Mapping[str, Any]) -> dict[str, str]:
    """What ``SET`` reads of its environment."""
    return {
        "MAC": mac, "ADDRESSES": " ".join(told["addresses"]), "GATEWAYS": " ".join(told["gateways"]),
        "DNS": " ".join(told["dns"]), "SUFFIX": told.get("suffix", ""),
        "DHCP": "yes" if told.get("dhcp") else "",
        "STANZAS": _stanzas(told), "PATH": "/usr/sbin:/usr/bin:/sbin:/bin",
    }  # fmt: skip


def _stanzas(told: Mapping[str, Any]) -> str:
    """Of ifupdown. Netmasks are lines of their own: not every ifup can read them otherwise."""
    lines = []
    for number, text in enumerate(told["addresses"]):
        at = ip_interface(text)
        family = "inet" if at.version == 4 else "inet6"
        lines += [f"iface @NIC@ {family} static", f"  address {at.ip}"]
        lines.append(f"  netmask {at.netmask if at.version == 4 else at.network.prefixlen}")
        if number == 0:
            lines += [f"  gateway {gateway}" for gateway in told["gateways"][:1]]
            if told["dns"]:
                lines.append(f"  dns-nameservers {' '.join(told['dns'])}")
    return "\n".join(lines) + "\n" if lines else "iface @NIC@ inet manual\n"
