"""A Linux host with libvirt as a site: every verb of the protocol, done to real machines."""

from __future__ import annotations

from .estate import Estate
from .moving import Moving
from .power import Power


class LibvirtSite(Estate, Moving, Power):
    """The site of one host."""

    name = "libvirt host 1"
    care_every_s = 2.0
    goes_on_without_secrets = frozenset({"protect", "reverse-copying"})
    """The key of copies is libvirt's to keep; it is there already."""

    def verbs(self) -> list[str]:
        """Those of the protocol; nothing is killed on purpose but in a lab."""
        return [verb for verb in super().verbs() if self.settings.lab or verb != "kill-machine"]

    def care(self) -> None:
        """Copies that are due, addresses of guests, front doors, names and leases of copies."""
        super().care()
        self.look_after_guests()
        self.look_after_doors()
        self.look_after_names()
        self.look_after_leases()
