"""A libvirt inside of this process, for tests and the real lab; a host has its daemon.

It begins with the first connection, and has everything under one folder. What the daemon does for its clients
and no public function offers is done here (libvirt 9.0).
"""

from __future__ import annotations

import ctypes
import threading
from functools import cache
from pathlib import Path
from typing import Any

from .bindings import libvirt

_CONF = (
    'user="root"\ngroup="root"\ndynamic_ownership=0\nremember_owner=0\nsecurity_driver="none"\n'
    'namespaces=[]\ncgroup_controllers=[]\nstdio_handler="file"\n'
)
_known = threading.local()


@cache
def begin(root: Path) -> Any:
    """Before the first connection for machines: the one for secrets, which can be opened once a process."""
    conf = root / "etc" / "qemu.conf"
    conf.parent.mkdir(parents=True, exist_ok=True)
    conf.write_text(_CONF)
    return libvirt.open(f"secret:///embed?root={root}")


def know_this_thread(secrets: Any) -> None:
    """Secrets are read for whoever asks in a thread, over a connection of that thread; without, machines with
    encrypted disks are refused ("No current identity to elevate", "Missing URI parameter 'root'")."""
    if getattr(_known, "secrets", None) is not secrets:
        inside = ctypes.CDLL("libvirt.so.0")
        inside.virIdentityGetSystem.restype = ctypes.c_void_p
        inside.virIdentitySetCurrent(ctypes.c_void_p(inside.virIdentityGetSystem()))
        pointer = ctypes.pythonapi.PyCapsule_GetPointer
        pointer.restype, pointer.argtypes = ctypes.c_void_p, [ctypes.py_object, ctypes.c_char_p]
        inside.virSetConnectSecret(ctypes.c_void_p(pointer(secrets._o, b"virConnectPtr")))
        _known.secrets = secrets
