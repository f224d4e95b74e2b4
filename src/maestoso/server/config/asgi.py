"""The ASGI application: ``uvicorn maestoso.server.config.asgi:application``."""

import os

from django.core.asgi import get_asgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "maestoso.server.config.settings")
application = get_asgi_application()
