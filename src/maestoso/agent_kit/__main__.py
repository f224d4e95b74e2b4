"""The agent kit on the command line.

``python -m maestoso.agent_kit new FILE`` writes a skeleton; ``... check URL --group CODE`` is the conformance
test; ``... folders`` serves the example, a folder of files as machines.
"""

from __future__ import annotations

import argparse
import os
import ssl
import sys
from pathlib import Path

from .conformance.client import Client
from .conformance.run import run
from .folders import Folders
from .server import serve
from .skeleton import write

TOKEN = "MAESTOSO_AGENT_TOKEN"
SOURCE_TOKEN = "MAESTOSO_SOURCE_TOKEN"


def main() -> int:
    """What was asked for."""
    parser = argparse.ArgumentParser(prog="agent_kit", description=__doc__)
    commands = parser.add_subparsers(dest="command", required=True)
    new = commands.add_parser("new", help="write a skeleton")
    new.add_argument("file", type=Path, help="a Python file that is not there yet")
    check = commands.add_parser("check", help="test an agent that runs")
    check.add_argument("url", help=f"where it is; its token is in {TOKEN}")
    check.add_argument("--group", required=True, help="a group whose copies the site holds")
    check.add_argument("--source", help=f"the agent that they come from (token: {SOURCE_TOKEN}); closed down")
    check.add_argument("--members", default="", help="the workloads of the group, with commas")
    check.add_argument("--start", default="", help="starts the agent, which is killed in the middle then")
    check.add_argument("--ca", type=Path, help="the authority (PEM) of its certificate")
    folders = commands.add_parser("folders", help="serve the example")
    folders.add_argument("folder", type=Path)
    folders.add_argument("--site", required=True, help="its code")
    folders.add_argument("--port", type=int, required=True)
    folders.add_argument("--token-file", type=Path, required=True)
    folders.add_argument("--certificate", type=Path, help="a PEM file with certificate and key, for TLS")
    folders.add_argument("--other", action="append", default=[], help="CODE=FOLDER of another site")
    options = parser.parse_args()
    if options.command == "new":
        return write(options.file)
    if options.command == "check":
        return _check(options)
    others = {code: Path(place) for code, place in (one.split("=", 1) for one in options.other)}
    serve(
        Folders(options.site, options.folder, others), state=options.folder / "agent.sqlite",
        port=options.port, token_file=options.token_file, certificate=options.certificate,
        key=options.certificate,
    )  # fmt: skip
    return 0


def _check(options: argparse.Namespace) -> int:
    verify = ssl.create_default_context(cafile=str(options.ca)) if options.ca else True
    if TOKEN not in os.environ:
        print(f"Set {TOKEN} to the token of the agent.", file=sys.stderr)
        return 2
    site = Client(options.url, os.environ[TOKEN], "the target", verify)
    source = None
    if options.source:
        token = os.environ.get(SOURCE_TOKEN, os.environ[TOKEN])
        source = Client(options.source, token, "the source", verify)
    members = tuple(name for name in options.members.split(",") if name)
    return run(site, options.group, source=source, members=members, start=options.start)


if __name__ == "__main__":
    sys.exit(main())
