"""The ASGI application: ``uvicorn maestoso.server.config.asgi:application``."""

import os

from django.core.asgi import get_asgi_application

from maestoso.server.config.collector import look_for_cycles_seldom

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "maestoso.server.config.settings")
look_for_cycles_seldom()
application = get_asgi_application()
