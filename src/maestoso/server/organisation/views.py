"""The organisation's settings over HTTP: these translate, nothing else."""

from __future__ import annotations

from django.http import HttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from maestoso.core.errors import NotFound
from maestoso.server.common.raw_body import body_of, raw_body
from maestoso.server.common.shapes import if_match, read, reply, shape
from maestoso.server.organisation import services
from maestoso.server.organisation.models import Organisation
from maestoso.server.organisation.shapes import Settings, SettingsView


class SettingsOfAll(APIView):
    """Settings of the whole organisation."""

    @extend_schema(operation_id="settings", responses=shape(SettingsView))
    def get(self, request: Request) -> Response:
        """Its name, its time zone, the words of its documents, and how long runs are kept."""
        return _reply(services.organisation())

    @extend_schema(
        operation_id="saveSettings",
        parameters=[OpenApiParameter("If-Match", OpenApiTypes.STR, OpenApiParameter.HEADER, required=True)],
        request=shape(Settings, sent=True),
        responses=shape(SettingsView),
    )
    def put(self, request: Request) -> Response:
        """Set them; If-Match names the revision that the change began from."""
        return _reply(services.save(read(Settings, request), if_match(request)))


class LogoView(APIView):
    """The logo of documents."""

    parser_classes = [raw_body(services.LARGEST_LOGO)]

    @extend_schema(operation_id="logo", responses={(200, "image/png"): OpenApiTypes.BINARY})
    def get(self, request: Request) -> HttpResponse:
        """The picture."""
        row = services.organisation()
        if not row.logo:
            raise NotFound("There is no logo.", "Set one on the page Settings.")
        return HttpResponse(bytes(row.logo), content_type="image/png")

    @extend_schema(
        operation_id="saveLogo",
        request={"application/octet-stream": OpenApiTypes.BINARY},
        responses=shape(SettingsView),
    )
    def put(self, request: Request) -> Response:
        """A PNG or JPEG picture of up to 512 KiB."""
        services.save_logo(body_of(request))
        return _reply(services.organisation())

    @extend_schema(operation_id="removeLogo", responses={200: shape(SettingsView)})
    def delete(self, request: Request) -> Response:
        """Documents go without one."""
        services.remove_logo()
        return _reply(services.organisation())


def _reply(row: Organisation) -> Response:
    shown = Settings(
        organisation=row.organisation, time_zone=row.time_zone, words=row.words, keep_days=row.keep_days,
        logo=bool(row.logo),
    )  # fmt: skip
    return reply(SettingsView(settings=shown, revision=row.revision), headers={"ETag": f'"{row.revision}"'})
