"""Sites, links, drift and imports over HTTP: these translate, nothing else."""

from __future__ import annotations

from typing import Any

from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from maestoso.core.errors import BadValue
from maestoso.core.files import LARGEST_FILE
from maestoso.core.model.estate import FrontDoor, HostPool, Link, Network, StoragePool
from maestoso.engine.clock import SystemClock
from maestoso.server.common.raw_body import body_of, raw_body
from maestoso.server.common.seen import seen_by
from maestoso.server.common.shapes import read, reply, shape
from maestoso.server.estate import drift, imports, picture, retired, services, trust
from maestoso.server.estate.shapes import (
    Accept,
    AgentAt,
    BroughtBack,
    Changed,
    Confirm,
    Drift,
    ImportView,
    RetiredView,
    SiteChange,
    SiteMake,
    Sites,
    SiteView,
)

CLOCK = SystemClock()
THINGS: dict[str, type] = {
    "host_pools": HostPool,
    "storage_pools": StoragePool,
    "networks": Network,
    "front_doors": FrontDoor,
}


class SitesView(APIView):
    """All sites."""

    @extend_schema(operation_id="sites", responses=shape(Sites))
    def get(self, request: Request) -> Response:
        """Sites with their pools, networks and front doors, and the links between them."""
        return reply(picture.sites(seen_by(request)))

    @extend_schema(
        operation_id="registerSite", request=shape(SiteMake, sent=True), responses={201: shape(SiteView)}
    )
    def post(self, request: Request) -> Response:
        """Make a site known; its inventory is fetched from its agent."""
        sent = read(SiteMake, request)
        site = services.register_site(
            code=sent.code, name=sent.name, kind=sent.kind, time_zone=sent.time_zone,
            agent=AgentAt(
                agent_url=sent.agent_url, token=sent.token, enrolment=sent.enrolment,
                certificate=sent.certificate,
            ), clock=CLOCK,
        )  # fmt: skip
        return reply(picture.site_view(site), 201)


class SiteDetailView(APIView):
    """One site."""

    @extend_schema(operation_id="changeSite", request=shape(SiteChange, sent=True), responses=shape(SiteView))
    def put(self, request: Request, code: str) -> Response:
        """Rename it, or say whether its inventory is taken over by itself."""
        sent = read(SiteChange, request)
        site = services.change_site(
            code, name=sent.name, time_zone=sent.time_zone, takes_over=sent.takes_over
        )
        return reply(picture.site_view(site))

    @extend_schema(operation_id="retireSite", responses={204: None})
    def delete(self, request: Request, code: str) -> Response:
        """Take it away; refused while something uses it."""
        services.retire_site(code, by=request.user.get_username(), at=CLOCK.now())
        return Response(status=204)


class AgentView(APIView):
    """The agent of a site."""

    @extend_schema(operation_id="moveAgent", request=shape(AgentAt, sent=True), responses=shape(SiteView))
    def put(self, request: Request, code: str) -> Response:
        """Say where it is now, with which token and certificate; it is looked for before anything is kept."""
        site = services.find_site(code)
        trust.move_agent(site, read(AgentAt, request))
        return reply(picture.site_view(site))


class AgentTokenView(APIView):
    """The token of a site's agent."""

    @extend_schema(operation_id="replaceAgentToken", request=None, responses=shape(SiteView))
    def post(self, request: Request, code: str) -> Response:
        """Have the agent give another one, and use that from now on."""
        site = services.find_site(code)
        trust.replace_token(site)
        return reply(picture.site_view(site))


class ForgotView(APIView):
    """A site whose agent lost its memory."""

    @extend_schema(operation_id="forgotSeen", request=None, responses=shape(SiteView))
    def post(self, request: Request, code: str) -> Response:
        """Say that somebody looked at it."""
        return reply(picture.site_view(services.forgot_seen(code)))


def _thing_view(kind: services.Thing, cls: type) -> type[APIView]:
    """Making, changing and retiring one kind of thing that a site has."""

    class ThingView(APIView):
        __doc__ = f"One of the {kind} of a site."

        @extend_schema(operation_id=f"save_{kind}", request=shape(cls, sent=True), responses=shape(SiteView))
        def put(self, request: Request, code: str, name: str) -> Response:
            """Change it, or make it where it is not there."""
            item: Any = read(cls, request)
            known = {thing.name for thing in getattr(services.find_site(code).things(), kind)}
            services.change_things(code, kind, item, name if name in known else "")
            return reply(picture.site_view(services.find_site(code)))

        @extend_schema(operation_id=f"retire_{kind}", responses={204: None})
        def delete(self, request: Request, code: str, name: str) -> Response:
            """Retire it; refused while something uses it."""
            services.change_things(code, kind, None, name)
            return Response(status=204)

    return ThingView


HostPoolView = _thing_view("host_pools", HostPool)
StoragePoolView = _thing_view("storage_pools", StoragePool)
NetworkView = _thing_view("networks", Network)
FrontDoorView = _thing_view("front_doors", FrontDoor)


class LinksView(APIView):
    """Links between sites."""

    @extend_schema(operation_id="saveLink", request=shape(Link, sent=True), responses=shape(Link))
    def put(self, request: Request) -> Response:
        """Make or change the link between two sites."""
        return reply(services.save_link(read(Link, request)).core())


class LinkView(APIView):
    """One link."""

    @extend_schema(operation_id="retireLink", responses={204: None})
    def delete(self, request: Request, one: str, other: str) -> Response:
        """Take it away; refused while a group is copied over it."""
        services.retire_link(one, other, by=request.user.get_username(), at=CLOCK.now())
        return Response(status=204)


class DriftView(APIView):
    """What a site's agent says otherwise."""

    @extend_schema(operation_id="drift", responses=shape(Drift))
    def get(self, request: Request, code: str) -> Response:
        """The differences, field by field."""
        site = services.find_site(code)
        return reply(Drift(site=code, differences=drift.drift(site)))

    @extend_schema(operation_id="acceptDrift", request=shape(Accept, sent=True), responses=shape(Changed))
    def post(self, request: Request, code: str) -> Response:
        """Take all or some of them over."""
        sent, site = read(Accept, request), services.find_site(code)
        if sent.ids is None:
            return reply(Changed(changed=drift.accept_all(site, CLOCK)))
        return reply(Changed(changed=drift.accept(site, sent.ids, CLOCK)))


class ImportsView(APIView):
    """Bringing files in."""

    parser_classes = [raw_body(LARGEST_FILE)]

    @extend_schema(
        operation_id="beginImport",
        parameters=[
            OpenApiParameter("name", OpenApiTypes.STR, required=True, description="The name of the file."),
            OpenApiParameter("site", OpenApiTypes.STR),
            OpenApiParameter("storage_pool", OpenApiTypes.STR),
            OpenApiParameter("network", OpenApiTypes.STR),
        ],
        request={"application/octet-stream": OpenApiTypes.BINARY},
        responses={201: shape(ImportView)},
    )
    def post(self, request: Request) -> Response:
        """Read a CSV, JSON, OVF or OVA file and say what it would bring; nothing is written."""
        raw = body_of(request)
        if len(raw) > LARGEST_FILE:
            raise BadValue("The file is too large.", f"Import at most {LARGEST_FILE // 2**20} MiB at once.")
        asked = {key: request.query_params.get(key, "") for key in ("site", "storage_pool", "network")}
        job = imports.begin(
            request.query_params.get("name", ""), raw, imports.ImportOptions(**asked),
            request.user.get_username(), CLOCK,
        )  # fmt: skip
        return reply(picture.import_view(job), 201)


class ImportDetailView(APIView):
    """One import."""

    @extend_schema(operation_id="import", responses=shape(ImportView))
    def get(self, request: Request, pk: int) -> Response:
        """How it stands."""
        return reply(picture.import_view(imports.find_import(pk)))

    @extend_schema(
        operation_id="confirmImport", request=shape(Confirm, sent=True), responses=shape(ImportView)
    )
    def post(self, request: Request, pk: int) -> Response:
        """Write what was previewed."""
        sent = read(Confirm, request)
        return reply(picture.import_view(imports.confirm(pk, sent.token, request.user.get_username())))

    @extend_schema(operation_id="cancelImport", responses={200: shape(ImportView)})
    def delete(self, request: Request, pk: int) -> Response:
        """Stop it; nothing of it stays."""
        return reply(picture.import_view(imports.cancel(pk)))


class RetiredThings(APIView):
    """Everything that was retired."""

    @extend_schema(operation_id="retired", responses=shape(RetiredView)(many=True))
    def get(self, request: Request) -> Response:
        """What was retired and has not come back, the latest first."""
        return reply(retired.all_retired())


class RetiredThing(APIView):
    """One retired thing."""

    @extend_schema(operation_id="bringBack", request=None, responses=shape(BroughtBack))
    def post(self, request: Request, pk: int) -> Response:
        """Make it again as it was; refused with what is in the way."""
        page = retired.bring_back(pk, by=request.user.get_username(), at=CLOCK.now())
        return reply(BroughtBack(page=page))
