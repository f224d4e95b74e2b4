"""Accounts of the system that processes of Maestoso run as, where root starts them."""

from __future__ import annotations

import contextlib
import pwd
import subprocess

from maestoso.cli.stages import StageFailed

NO_SHELL = "/usr/sbin/nologin"


def system_user(name: str, instead: str) -> pwd.struct_passwd:
    """The account of this name, made where there is none.

    Raises StageFailed, which says what to do ``instead``.
    """
    with contextlib.suppress(KeyError):
        return pwd.getpwnam(name)
    making = ["useradd", "--system", "--user-group", "--no-create-home", "--shell", NO_SHELL, name]
    try:
        said = subprocess.run(making, capture_output=True, text=True, check=False).stderr.strip()
    except OSError as error:
        said = str(error)
    try:
        return pwd.getpwnam(name)
    except KeyError:
        raise StageFailed(
            f"The account {name} could not be made: {said}\nMake it ({' '.join(making)}){instead}."
        ) from None
