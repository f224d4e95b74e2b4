"""Replies as JSON. The score of a large plan has a hundred thousand values, and people wait for it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import orjson
from rest_framework.renderers import JSONRenderer

from maestoso.core.codec import to_data


class Json(JSONRenderer):
    """Values of the model as :func:`maestoso.core.codec.to_data` has them, without making that first."""

    def render(
        self,
        data: Any,
        accepted_media_type: str | None = None,
        renderer_context: Mapping[str, Any] | None = None,
    ) -> bytes:
        """The body; empty where there is nothing to say."""
        return b"" if data is None else orjson.dumps(data, default=to_data, option=orjson.OPT_NON_STR_KEYS)
