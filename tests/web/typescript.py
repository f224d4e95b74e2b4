"""Pure TypeScript of the front end, called from unittest in the Node of the virtual environment."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import unittest
from pathlib import Path
from typing import Any

HERE = Path(__file__).resolve().parent
SOURCE = HERE.parents[1] / "web" / "src"


class TypeScript(unittest.TestCase):
    """Functions of one ``module`` (under ``web/src``, or beside this file), in one process for the class."""

    module = ""

    @classmethod
    def setUpClass(cls) -> None:
        file = next(file for top in (SOURCE, HERE) if (file := top / f"{cls.module}.ts").is_file())
        node = Path(sys.executable).parent / "node"
        command = [str(node), "--no-warnings", str(HERE / "caller.mjs"), str(SOURCE), str(file)]
        cls.node = subprocess.Popen(
            command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, env={**os.environ, "TZ": "UTC"}
        )
        cls.addClassCleanup(cls._end)

    @classmethod
    def _end(cls) -> None:
        assert cls.node.stdin is not None
        assert cls.node.stdout is not None
        cls.node.stdin.close()
        cls.node.stdout.close()
        cls.node.wait()

    def call(self, name: str, *args: Any) -> Any:
        """What a function returns (None for undefined), or the value that is exported by that name."""
        return self.called(name, *args)["value"]

    def changed(self, name: str, *args: Any) -> Any:
        """The first argument as the function leaves it."""
        return self.called(name, *args)["args"][0]

    def called(self, name: str, *args: Any) -> dict[str, Any]:
        """Value and arguments after a call. Raises AssertionError with what was thrown."""
        assert self.node.stdin is not None
        assert self.node.stdout is not None
        self.node.stdin.write(json.dumps({"name": name, "args": args}) + "\n")
        self.node.stdin.flush()
        answer: dict[str, Any] = json.loads(self.node.stdout.readline())
        if "error" in answer:
            raise AssertionError(answer["error"])
        return answer

    def assert_table(self, name: str, *rows: tuple[Any, ...]) -> None:
        """Arguments and, last, what is returned for them."""
        for *args, wanted in rows:
            with self.subTest(args=args):
                self.assertEqual(self.call(name, *args), wanted)
