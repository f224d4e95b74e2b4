"""Databases of the tests of the server, made once with the prepared world: ``python -m tests.server.databases``.

``test_maestoso`` has the tables and no rows. The demo is beside it, with its history (the world's own database) and
without (``PLAIN``); a class takes its rows from there, in a transaction that is taken back when the class is over.
"""

from __future__ import annotations

import django
from django.conf import settings
from django.db import connection

PLAIN = "test_maestoso_plain"
STATIC = ("django_migrations", "django_content_type", "auth_permission")
"""Tables with the same rows in every database: the migrations write them."""
DERIVED = ("board_storedboard",)
"""Tables of what was reckoned in a world that is not that of the test."""


def with_history() -> str:
    """The name of the database that has the demo with its history."""
    return str(settings.DATABASES["default"]["NAME"]).removeprefix("test_")


def take_rows(source: str) -> None:
    """Take all rows of the database ``source`` into the present one, instead of its own."""
    with connection.cursor() as cursor:
        cursor.execute("SET FOREIGN_KEY_CHECKS = 0")
        for table in _tables(cursor):
            cursor.execute(f"DELETE FROM `{table}`")
            if table not in DERIVED:
                cursor.execute(f"INSERT INTO `{table}` SELECT * FROM `{source}`.`{table}`")
        cursor.execute("SET FOREIGN_KEY_CHECKS = 1")


def _tables(cursor) -> list[str]:  # type: ignore[no-untyped-def]
    return [name for name in connection.introspection.table_names(cursor) if name not in STATIC]


def _use(name: str) -> None:
    connection.close()
    connection.settings_dict["NAME"] = name


def main() -> None:
    """Make both databases; the practice sites of the world must be up."""
    django.setup()
    from maestoso.engine.clock import SystemClock
    from maestoso.practice.scenario import Scenario
    from maestoso.server.config.settings import OPTIONS, SECRETS
    from maestoso.server.estate.models import Site
    from maestoso.server.practice_lab import demo

    full = connection.settings_dict["NAME"]
    urls = dict(Site.objects.values_list("code", "agent_url"))
    tables = connection.creation.create_test_db(verbosity=0, autoclobber=True, serialize=False)
    with connection.cursor() as cursor:
        cursor.execute(f"CREATE DATABASE `{PLAIN}`")
        for table in connection.introspection.table_names(cursor):
            cursor.execute(f"CREATE TABLE `{PLAIN}`.`{table}` LIKE `{tables}`.`{table}`")
            if table in STATIC:
                cursor.execute(f"INSERT INTO `{PLAIN}`.`{table}` SELECT * FROM `{full}`.`{table}`")
    _use(PLAIN)
    scenario = Scenario(OPTIONS.scenario)
    data = scenario.data
    scenario.data = lambda name: {} if name == "history" else data(name)  # type: ignore[method-assign]
    demo.load(scenario, agent_urls=urls, token=SECRETS.site_token, clock=SystemClock(), say=lambda line: None)


if __name__ == "__main__":
    main()
