"""The last step before a site: secrets are filled in there and nowhere else, so no log ever holds one."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

from asgiref.sync import sync_to_async

from maestoso.core.ports import LogUnavailable, SiteClient, SiteUnreachable
from maestoso.core.runs.operations import Operation, OperationState
from maestoso.server.protection.services import copy_secrets, find_group
from maestoso.server.runs.log import reachable
from maestoso.server.scripts.services import with_secrets


class SecretsFilledIn:
    """A site client that knows the secrets."""

    def __init__(self, client: SiteClient) -> None:
        self.client = client

    async def put_operation(self, operation: Operation, fence: int) -> OperationState:
        """Send it with its secrets."""
        if operation.args.get("secrets") or operation.verb == "reverse-copying":
            try:
                args = await sync_to_async(reachable(_filled_in))(operation)
            except LogUnavailable as error:
                # As if the site were away: it is sent again under its key once the secrets can be read.
                raise SiteUnreachable(f"The secrets for it cannot be read now: {error}") from error
            operation = replace(operation, args=args)
        return await self.client.put_operation(operation, fence)

    async def operation(self, key: str) -> OperationState | None:
        """As the client."""
        return await self.client.operation(key)

    async def answering(self, workloads: Sequence[str], mark: str = "") -> frozenset[tuple[str, str]]:
        """As the client."""
        return await self.client.answering(workloads, mark)

    async def changes(self, after: int, wait_s: float) -> tuple[list[OperationState], int]:
        """As the client."""
        return await self.client.changes(after, wait_s)


def _filled_in(operation: Operation) -> Mapping[str, Any]:
    if operation.verb == "reverse-copying":
        return {**operation.args, **copy_secrets(find_group(operation.subject))}
    return with_secrets(operation.args)
