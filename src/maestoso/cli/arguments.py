"""What can be typed behind ``./maestoso``."""

from __future__ import annotations

import argparse

PARTS = ("lint", "web", "core", "server", "e2e", "guests")
"""Of ``./maestoso test``; here, because a start must not load what only tests need."""


def parse() -> argparse.Namespace:
    """The command and what was given with it; ends the process where that cannot be read."""
    parser = argparse.ArgumentParser(prog="./maestoso")
    commands = parser.add_subparsers(dest="command", required=True)
    commands.add_parser("demo", help="set up and start everything with the demo data")
    commands.add_parser("start", help="set up and start without demo data")
    commands.add_parser("stop", help="stop what demo or start started")
    commands.add_parser("doctor", help="check every precondition and say how to mend each")
    tests = commands.add_parser("test", help="set up and run every test")
    tests.add_argument(
        "only", nargs="*", metavar="PART or tests.…",
        help=f"only these parts ({', '.join(PARTS)}), modules, classes or tests",
    )  # fmt: skip
    tests.add_argument("-v", action="store_true", help="name every test")
    tests.add_argument("--serial", action="store_true", help="one thing at a time, shown as it comes")
    long = commands.add_parser(
        "soak", help="let processes die at random for a while, and check every promise"
    )
    long.add_argument("--minutes", type=float, default=10.0)
    long.add_argument("--seed", type=int, default=1)
    long.add_argument("--once", action="store_true", help="every scenario once, however long that takes")
    long.add_argument(
        "--walks", type=int, default=0, metavar="N",
        help="no processes: N random walks of people and sites through the application, in virtual time",
    )  # fmt: skip
    long.add_argument(
        "--schedules", type=int, default=0, metavar="N",
        help="no processes: N random orders of engines, keeper, people and messages, in virtual time",
    )  # fmt: skip
    long.add_argument(
        "--guests", type=int, default=0, metavar="N",
        help="as root: N times the story of real machines while agents, engine, keeper and QEMU are killed",
    )  # fmt: skip
    long.add_argument(
        "--standby", type=int, default=0, metavar="N",
        help="N times a primary that is killed in the middle of a run, and a standby that takes over",
    )  # fmt: skip
    long.add_argument(
        "--cluster", type=int, default=0, metavar="N",
        help="as root: N times a run on a cluster of three database nodes, one of which dies, with an engine",
    )  # fmt: skip
    machines = commands.add_parser(
        "real-lab", help="two sites of real, small machines on this one, known to the Maestoso that runs here"
    )
    machines.add_argument("--remove", action="store_true", help="take all of it away again")
    machines.add_argument("--lose", metavar="SITE", help="kill all machines and the agent of a site of it")
    services = commands.add_parser("install", help="as root: make Maestoso services of systemd")
    services.add_argument(
        "--to", default="", metavar="FOLDER", help="write the files below it, and change nothing"
    )
    newer = commands.add_parser(
        "upgrade",
        help="after another release was put here: bring the records up to it, or leave them as they were",
    )
    newer.add_argument("--demo", action="store_true", help="of the demo instead of ./maestoso start")
    one = commands.add_parser("run", help="what a service starts: one process of an installation")
    one.add_argument("name")
    save = commands.add_parser("backup", help="everything of this installation in one encrypted file")
    save.add_argument(
        "--to", default="", metavar="FOLDER", help="where to; else backup_folder of the settings"
    )
    save.add_argument("--demo", action="store_true", help="of the demo instead of ./maestoso start")
    save.add_argument("--make-key", metavar="FILE", help="make a pair of keys for backups instead")
    save.add_argument("--list", action="store_true", help="say instead what is in the bucket of the settings")
    save.add_argument(
        "--fetch", default="", metavar="NAME", help="bring that from the bucket into --to instead"
    )
    back = commands.add_parser(
        "restore", help="bring everything back from a backup where nothing is installed"
    )
    back.add_argument("file")
    back.add_argument(
        "--key", default="", metavar="FILE", help="the private key, for a backup that is for one"
    )
    back.add_argument(
        "--try", action="store_true", dest="tried",
        help="only see whether it could be: opened, loaded beside what is installed, held against its seals",
    )  # fmt: skip
    back.add_argument("--demo", action="store_true", help="of the demo instead of ./maestoso start")
    second = commands.add_parser(
        "standby",
        help="begin a standby of another Maestoso with a backup of it; without a file, how it stands",
    )
    second.add_argument("file", nargs="?", default="")
    second.add_argument(
        "--of", default="", metavar="HOST:PORT", help="the primary's database: its replication_port"
    )
    second.add_argument(
        "--key", default="", metavar="FILE", help="the private key, for a backup that is for one"
    )
    second.add_argument(
        "--move-aside", action="store_true",
        help="keep what is installed here in a folder beside it: for a primary that another took over from",
    )  # fmt: skip
    second.add_argument("--demo", action="store_true", help="of the demo instead of ./maestoso start")
    over = commands.add_parser("takeover", help="make a standby conduct, because its primary is lost")
    over.add_argument("--yes", action="store_true", help="do not ask")
    over.add_argument("--demo", action="store_true", help="of the demo instead of ./maestoso start")
    check = commands.add_parser("verify", help="check the evidence of a run; needs no database")
    check.add_argument("file", help="what was exported as run-N.evidence.jsonl")
    check.add_argument("--keys", help="a JWK set of keys that you trust; else only the fingerprint is said")
    admin = commands.add_parser(
        "admin",
        help="let an administrator in on this machine: a new password and the role; Maestoso must run",
    )
    admin.add_argument("name")
    admin.add_argument("--demo", action="store_true", help="of the demo instead of ./maestoso start")
    wipe = commands.add_parser("reset", help="remove the demo data, so that the next demo begins anew")
    wipe.add_argument("--live", action="store_true", help="remove the data of ./maestoso start instead")
    wipe.add_argument("--yes", action="store_true", help="do not ask")
    return parser.parse_args()
