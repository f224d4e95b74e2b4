"""The shapes of requests and replies are frozen dataclasses; this makes them known to the API contract.

One description serves the reader (unknown and missing fields are refused by name), the writer, and the
OpenAPI schema from which the front end's types are made.
"""

from __future__ import annotations

from functools import cache
from typing import Any, Literal, TypeVar

from drf_spectacular.extensions import OpenApiSerializerExtension
from drf_spectacular.openapi import AutoSchema
from drf_spectacular.utils import OpenApiParameter
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response

from maestoso.core.codec import from_data, object_schema
from maestoso.core.errors import BadValue

T = TypeVar("T")


class ShapeSerializer(serializers.Serializer[Any]):
    """Carries a dataclass through the tools that expect serializers; it never serializes."""

    shape: type
    complete = True


def shape(cls: type, *, sent: bool = False) -> type[ShapeSerializer]:
    """The contract's name for ``cls``; ``sent`` for what clients send (fields with defaults may lack)."""
    return _shape(cls, sent)


@cache
def _shape(cls: type, sent: bool) -> type[ShapeSerializer]:
    name = cls.__name__ + ("Sent" if sent else "")
    return type(
        f"{name}Serializer", (ShapeSerializer,), {"shape": cls, "complete": not sent, "__doc__": cls.__doc__}
    )


class ShapeExtension(OpenApiSerializerExtension):  # type: ignore[no-untyped-call]  # as it is written
    """Tells the schema generator what a shape looks like."""

    target_class = ShapeSerializer
    match_subclasses = True

    def get_name(self, auto_schema: AutoSchema, direction: str) -> str:
        """The component's name in the contract."""
        serializer = self._class()
        return serializer.shape.__name__ + ("" if serializer.complete else "Sent")

    def map_serializer(self, auto_schema: AutoSchema, direction: str) -> dict[str, Any]:
        """The component's schema; nested dataclasses become components of their own."""
        serializer = self._class()

        def ref(inner: type) -> dict[str, Any]:
            nested = shape(inner, sent=not serializer.complete)
            way: Literal["request", "response"] = "request" if direction == "request" else "response"
            return auto_schema.resolve_serializer(nested(), way).ref

        return object_schema(serializer.shape, ref, complete=serializer.complete)

    def _class(self) -> type[ShapeSerializer]:
        return self.target if isinstance(self.target, type) else type(self.target)


def read(cls: type[T], request: Request) -> T:
    """The body of a request as ``cls``. Raises BadValue naming field and value."""
    return from_data(cls, request.data, at="body")


def reply(value: Any, status: int = 200, headers: dict[str, str] | None = None) -> Response:
    """A dataclass, or a list of them, as the reply."""
    return Response(value, status=status, headers=headers)


class Number(OpenApiParameter):
    """A whole number of the query, with the bounds that the contract says and the reader keeps."""

    def __init__(
        self, name: str, least: int, most: int, description: str, otherwise: int | None = None
    ) -> None:
        schema = {"type": "integer", "minimum": least, "maximum": most}
        super().__init__(name, schema, required=otherwise is None, description=description)
        self._bounds = (least, most)
        self._otherwise = otherwise

    def of(self, request: Request) -> int:
        """The number that was sent, or the one that counts where none was. Raises BadValue."""
        text = request.query_params.get(self.name)
        if text is None and self._otherwise is not None:
            return self._otherwise
        least, most = self._bounds
        said = text or ""
        if not said.isascii() or not said.isdigit() or len(said) > 12 or not least <= int(said) <= most:
            raise BadValue(
                f"{self.name} is {said[:40]!r}.",
                f"Give a whole number from {least} to {most}.",
                field=self.name,
            )
        return int(said)


def if_match(request: Request) -> int:
    """The revision that a change is based on; the tag of a compressed answer is good too. Raises BadValue."""
    given = request.headers.get("If-Match", "").removeprefix("W/").strip('"')
    if not given.isascii() or not given.isdigit() or len(given) > 9:
        raise BadValue(
            f"If-Match is {given[:40]!r}, which is no revision.",
            "Send the ETag of what your change began from.",
            field="If-Match",
        )
    return int(given)
