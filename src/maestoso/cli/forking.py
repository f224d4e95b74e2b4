"""Processes of ours that begin as copies of a supervisor which has loaded the application already.

To start Python and to load Django and all of ours takes longer than all that a start does besides, and
every process would do it for itself. So the supervisor loads it once (:mod:`maestoso.server.config.preload`)
and forks: the copy becomes what the command line says, in place of a new program. What is loaded is in
memory once for all of them, and a process that died is back at once.

What cannot be done so, any other program or a supervisor that could not load, is started as it always was.
"""

from __future__ import annotations

import atexit
import gc
import os
import runpy
import shlex
import signal
import sys
import threading
import traceback
from typing import Any, NoReturn

from setproctitle import setproctitle
from supervisor.options import ServerOptions
from supervisor.process import Subprocess

from maestoso.server.config.options import read_options
from maestoso.server.config.standby import read_standby


class ForkingOptions(ServerOptions):  # type: ignore[misc]  # supervisor has no types
    """What a supervisor asks of the system; what is Python of ours is no new program to it."""

    _tried = False
    _loaded = False

    def load(self) -> None:
        """Load the application, at the first call."""
        if self._tried:
            return
        self._tried = True
        try:
            # A standby that takes over has other settings from then on; of these processes it has one.
            if read_standby(read_options().var) is not None:
                return
            from maestoso.server.config import preload

            preload.load()
        except Exception:
            # Each process will say in its own log what is wrong with it.
            self.logger.warn(f"The application could not be loaded ahead:\n{traceback.format_exc()}")
            return
        # What is there now is never looked through again, so that its pages of memory stay shared.
        gc.collect()
        gc.freeze()
        self._loaded = True

    def fork(self) -> int:
        """Fork. No signal to the copy is lost in a handler of the supervisor that it still has."""
        before = signal.pthread_sigmask(signal.SIG_BLOCK, signal.valid_signals())
        try:
            pid = int(super().fork())
            if pid == 0:
                for number in signal.valid_signals():
                    if callable(signal.getsignal(number)):
                        signal.signal(number, signal.SIG_DFL)
            return pid
        finally:
            signal.pthread_sigmask(signal.SIG_SETMASK, before)

    def execve(self, filename: str, argv: list[str], env: dict[str, str]) -> None:
        """Become the module of ``python -m MODULE``, or another program."""
        if self._loaded and is_python(argv):
            become(env["SUPERVISOR_PROCESS_NAME"], argv[2], argv[3:], env)
        super().execve(filename, argv, env)


class ForkedProcess(Subprocess):  # type: ignore[misc]
    """A process of the supervisor, which loads the application before the first one that needs it."""

    def spawn(self) -> Any:
        """Start it. Not any earlier than needed: the database comes first, and comes up meanwhile."""
        if is_python(shlex.split(self.config.command)):
            self.config.options.load()
        return super().spawn()


def is_python(argv: list[str]) -> bool:
    """Whether a command line is that of a module in this Python."""
    return argv[:2] == [sys.executable, "-m"] and len(argv) > 2


def become(name: str, module: str, arguments: list[str], environment: dict[str, str]) -> NoReturn:
    """Be ``python -m module arguments`` from now on, as far as anybody can tell, and end as it does.

    ``name`` is what ``ps`` calls it.
    """
    status: object = 1
    try:
        signal.signal(signal.SIGINT, signal.default_int_handler)
        # First: it finds the old title by where the environment begins.
        setproctitle(f"maestoso: {name}")
        os.environ.clear()
        os.environ.update(environment)
        sys.argv = [module, *arguments]
        runpy.run_module(module, run_name="__main__", alter_sys=True)
        status = 0
    except SystemExit as end:
        status = 0 if end.code is None else end.code
        if not isinstance(status, int):
            print(status, file=sys.stderr)
            status = 1
    except BaseException:
        traceback.print_exc()
    finally:
        # As Python ends, but without unwinding the supervisor: its files and sockets are not ours to close.
        try:
            threading._shutdown()  # type: ignore[attr-defined]
            atexit._run_exitfuncs()
            sys.stdout.flush()
            sys.stderr.flush()
        finally:
            os._exit(status if isinstance(status, int) else 1)
