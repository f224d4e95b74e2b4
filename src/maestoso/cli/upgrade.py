"""``./maestoso upgrade``: the records of an installation brought up to this release, or left as they were."""

from __future__ import annotations

from collections.abc import Callable

from maestoso import __version__
from maestoso.cli import front_end
from maestoso.cli.keys import make_secrets
from maestoso.cli.processes import Processes
from maestoso.cli.replication import refuse_standby
from maestoso.cli.stages import StageFailed, stage
from maestoso.server.backups import records
from maestoso.server.config.options import Options


def upgrade(options: Options, django: Callable[..., None]) -> int:
    """Stop it, build, bring the tables up to date with a way back, and hold the records against their seals.

    ``django`` runs a management command. Raises StageFailed; the records are as they were then.
    """
    if not (options.var / "secrets.json").is_file():
        raise StageFailed(f"Nothing is installed in {options.var}.")
    refuse_standby(options, "Begin it anew with a backup of the release that its primary is of by then.")
    processes = Processes(options, make_secrets(options), practice=False)
    if processes.as_services():
        raise StageFailed("Stop the services first: systemctl stop maestoso.target")
    if processes.stop():
        print("  It ran, and was stopped.")
    front_end.build(processes.logs / "setup.log")
    with processes.only_records(), stage("Tables and seals"):
        under_way = records.runs_under_way(options, processes.secrets)
        django(processes, "prepare", "--checked")
    print(
        f"\n  The records fit release {__version__}, and are as they were written. Start it: ./maestoso start"
    )
    if under_way:
        print(f"  Runs that go on when it is started: {under_way}.")
    return 0
