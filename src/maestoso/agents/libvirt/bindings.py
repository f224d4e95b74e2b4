"""libvirt and libnbd. They come with Debian's packages, for Debian's Python; another 3.x of the same number
loads them, too."""

from __future__ import annotations

import sys
from pathlib import Path

PACKAGES = ("python3-libvirt", "python3-libnbd")
_DEBIAN = "/usr/lib/python3/dist-packages"

# Last, so that nothing else is taken from there instead of from the virtual environment.
if _DEBIAN not in sys.path and Path(_DEBIAN).is_dir():
    sys.path.append(_DEBIAN)

try:
    import libvirt
    import libvirt_qemu
    import nbd
except ImportError as error:
    raise ImportError(
        f"{error}. The agent needs Debian's packages {' and '.join(PACKAGES)}, and a Python of their number"
        f" (here {sys.version_info.major}.{sys.version_info.minor}). Install them, or take Debian's python3."
    ) from error

# Errors are raised; libvirt would print them, too.
libvirt.registerErrorHandler(lambda *_: None, None)

__all__ = ["libvirt", "libvirt_qemu", "nbd"]
