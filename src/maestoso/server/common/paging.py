"""Long lists, a page at a time: each page says where the next one begins."""

from __future__ import annotations

from typing import Any, TypeVar
from urllib.parse import parse_qs, urlsplit

from django.db.models import Model, QuerySet
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter
from rest_framework.exceptions import NotFound
from rest_framework.pagination import CursorPagination
from rest_framework.request import Request

from maestoso.core.errors import BadValue

PAGE = 100
CURSOR = OpenApiParameter(
    "cursor", OpenApiTypes.STR, description="What a page gives as `next`; the first page where it is missing."
)
Row = TypeVar("Row", bound=Model)


def page_of(rows: QuerySet[Row], request: Request, ordering: str = "-pk") -> tuple[list[Row], str | None]:
    """A page of rows, the highest first, and the cursor of the next one. Raises BadValue for a wrong one."""
    paging: Any = CursorPagination()
    paging.page_size, paging.ordering = PAGE, ordering
    try:
        found = list(paging.paginate_queryset(rows, request))
    except NotFound as error:
        said = request.query_params.get("cursor", "")
        raise BadValue(
            f"cursor is {said[:40]!r}.", "Give what the page before says as next.", field="cursor"
        ) from error
    link = paging.get_next_link()
    return found, parse_qs(urlsplit(link).query)["cursor"][0] if link else None
