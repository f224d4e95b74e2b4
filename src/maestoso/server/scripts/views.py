"""Scripts and secrets over HTTP: these translate, nothing else."""

from __future__ import annotations

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from maestoso.engine.clock import SystemClock
from maestoso.server.common.shapes import read, reply, shape
from maestoso.server.scripts import services
from maestoso.server.scripts.shapes import Library, ScriptSave, ScriptView, SecretSave

CLOCK = SystemClock()


class LibraryView(APIView):
    """The script library."""

    @extend_schema(operation_id="library", responses=shape(Library))
    def get(self, request: Request) -> Response:
        """All scripts with the plans that run them, and the names of all secrets."""
        return reply(services.everything())


class ScriptOfLibrary(APIView):
    """One script."""

    @extend_schema(
        operation_id="saveScript", request=shape(ScriptSave, sent=True), responses=shape(ScriptView)
    )
    def put(self, request: Request, name: str) -> Response:
        """Keep it; plans that run it say that its text changed until they take the new one in."""
        author = request.user.get_username()
        return reply(services.save_script(name, read(ScriptSave, request), author=author, at=CLOCK.now()))

    @extend_schema(operation_id="removeScript", responses={204: None})
    def delete(self, request: Request, name: str) -> Response:
        """Take it away; refused while a plan runs it."""
        services.remove_script(name, by=request.user.get_username(), at=CLOCK.now())
        return Response(status=204)


class SecretOfLibrary(APIView):
    """One secret. It can be written and forgotten, never read."""

    @extend_schema(operation_id="storeSecret", request=shape(SecretSave, sent=True), responses={204: None})
    def put(self, request: Request, name: str) -> Response:
        """Keep its value, encrypted."""
        sent = read(SecretSave, request)
        services.store_secret(name, sent.value, author=request.user.get_username(), at=CLOCK.now())
        return Response(status=204)

    @extend_schema(operation_id="forgetSecret", responses={204: None})
    def delete(self, request: Request, name: str) -> Response:
        """Forget it; refused while a plan uses it."""
        services.forget_secret(name)
        return Response(status=204)
