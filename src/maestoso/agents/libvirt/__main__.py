"""The agent of a site of libvirt hosts: ``python -m maestoso.agents.libvirt SETTINGS.toml``."""

from __future__ import annotations

import argparse
import logging
import os
import sys
from pathlib import Path

from maestoso.agent_kit import serve

from .settings import SettingsFault, read


def main() -> int:
    """Serve until told to end."""
    parser = argparse.ArgumentParser(prog="agents.libvirt", description=__doc__)
    parser.add_argument("settings", type=Path)
    options = parser.parse_args()
    try:
        settings = read(options.settings)
        from .between import routes
        from .platform import LibvirtSite
    except (SettingsFault, ImportError) as fault:
        print(f"{options.settings}: {fault}", file=sys.stderr)
        return 2
    os.umask(
        0o066
    )  # disks are for their owner only; QEMU, which may be another user, finds its way to its own
    logging.basicConfig(level=logging.INFO, format="%(asctime)s %(levelname)s %(message)s")
    logging.getLogger("httpx").setLevel(logging.WARNING)
    platform = LibvirtSite(settings)
    secrets = {code: site.secret for code, site in settings.sites.items()}
    serve(
        platform, state=settings.folder / "agent.sqlite", port=settings.port, host=settings.host,
        token_file=settings.folder / "token", certificate=settings.certificate, key=settings.key,
        client_ca=settings.client_ca, more=routes(platform.source, secrets),
    )  # fmt: skip
    return 0


if __name__ == "__main__":
    sys.exit(main())
