"""The ASGI application: ``uvicorn maestoso.server.config.asgi:application``."""

import os
from typing import Any

from django.core.asgi import get_asgi_application
from django.core.signals import request_finished
from django.db import connections

from maestoso.server.common.bounded import LARGEST_BODY, MOST_AT_ONCE, BoundedBodies, FewAtOnce
from maestoso.server.config.collector import look_for_cycles_seldom

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "maestoso.server.config.settings")


def _close_connections(**_: Any) -> None:
    """Every request has a thread of its own here: a connection that outlived it would never be used again."""
    connections.close_all()


request_finished.connect(_close_connections)
look_for_cycles_seldom()
_django: Any = get_asgi_application()
# What it imports needs the application's models.
from maestoso.server.access.stream_door import StreamDoor, Streams  # noqa: E402
from maestoso.server.board import stream as live_updates  # noqa: E402
from maestoso.server.reign.following import end_when_it_conducts  # noqa: E402
from maestoso.server.runs import stream as run  # noqa: E402
from maestoso.server.witness.services import watch_on_a_standby  # noqa: E402

end_when_it_conducts()
watch_on_a_standby()
_streams: dict[str, Streams] = {run.PATH: run.PUMP, live_updates.PATH: live_updates.LIVE_UPDATES}
application = BoundedBodies(StreamDoor(FewAtOnce(_django, MOST_AT_ONCE), _streams), LARGEST_BODY)
