"""Whom Maestoso takes for the agent of a site: its address, its token, its certificate."""

from __future__ import annotations

import time
from collections.abc import Mapping
from contextlib import suppress
from datetime import datetime
from typing import Any
from urllib.parse import urlsplit

from httpx import ReadError, RemoteProtocolError, WriteError

from maestoso.core.errors import BadValue, Refused
from maestoso.core.ports import SiteRefused, SiteUnintelligible, SiteUnreachable, SiteUntrusted
from maestoso.server.audit.record import recorded
from maestoso.server.common.secret_text import seal
from maestoso.server.estate.agents import PATIENCE_S, ask, check_address, forget_pulse, put_to, speak_to
from maestoso.server.estate.models import Site
from maestoso.server.estate.shapes import AgentAt
from maestoso.server.estate.snapshot import mark_changed
from maestoso.sites import trust
from maestoso.sites.verbs import VERBS

LONGEST_CERTIFICATE = 20_000
TRY = "Start it, or correct its address or token."


def reach_agent(site: Site, agent: AgentAt) -> None:
    """Find the agent of a site where it is said to be, and write that into the row without saving it.

    A token that is not given stays; with a one-time code, a new one is had for it. Raises BadValue for what
    cannot be, Refused where no agent of this site is there, and what is wrong with the one that is.
    """
    if not agent.token.isascii() or len(agent.token) > 500:
        # The message must not repeat a secret.
        raise BadValue("The token is no token.", "Give at most 500 plain characters.", field="body.token")
    url, certificate = check_address(agent.agent_url), _certificate(agent.certificate)
    if site.agent_token and not (agent.token or agent.enrolment.strip()):
        _check_token_may_go_there(site, url, certificate)
    site.agent_url, site.agent_certificate = url, certificate
    if agent.enrolment.strip():
        site.agent_token = seal(_enrolled(site, agent.enrolment))
    elif agent.token or not site.agent_token:
        site.agent_token = seal(agent.token)
    said = _introduced(site)
    if not str(said.get("protocol", "")).startswith("1."):
        raise Refused(
            f"The agent of {site.name} speaks protocol {said.get('protocol')!r}.",
            "It must speak 1.x.",
            code="agent-version",
        )
    if said.get("site") != site.code:
        raise Refused(
            f"The agent at {site.agent_url} is of site {str(said.get('site'))[:20]!r}, not of {site.code}.",
            "Correct the address here, or the code that it was started with.",
            code="agent-other-site",
        )
    site.practice = bool(said.get("practice", False))
    site.verbs = verbs_of(said)


def move_agent(site: Site, agent: AgentAt) -> None:
    """Have a site's agent somewhere else, or with another token or certificate; nothing else changes."""
    reach_agent(site, agent)
    with recorded():
        site.save(update_fields=["agent_url", "agent_token", "agent_certificate", "practice", "verbs"])
        mark_changed()
    forget_pulse(site)


def replace_token(site: Site) -> None:
    """Have another token for its agent. The old one is good there until the new one was used."""
    try:
        token = ask(site, lambda agent: agent.new_token())
    except (SiteRefused, SiteUnintelligible) as refused:
        why = f" It says: {refused}" if isinstance(refused, SiteRefused) else ""
        raise Refused(
            f"The agent of {site.name} gives no new tokens.{why}",
            "Put one into its file of tokens, and give it here.",
            code="no-new-token",
        ) from refused
    except SiteUnreachable as error:
        raise Refused(f"{site.name} does not answer: {error}", TRY, code="site-unreachable") from error
    # Kept before it is used: from then on the agent lets nobody in with the old one.
    before, site.agent_token = site.agent_token, seal(token)
    with recorded():
        site.save(update_fields=["agent_token"])
    try:
        _introduced(site)
    except Refused:
        Site.objects.filter(pk=site.pk, agent_token=site.agent_token).update(agent_token=before)
        raise


def verbs_of(said: Mapping[str, Any]) -> list[str]:
    """The verbs of what an agent says of itself, as far as they are in the protocol."""
    told = said.get("verbs")
    return [verb for verb in VERBS if verb in told] if isinstance(told, list) else []


def certificate_until(site: Site) -> datetime | None:
    """Until when the certificate that is trusted for a site is good; None where it has none of its own."""
    return (
        datetime.fromisoformat(trust.read(site.agent_certificate).until) if site.agent_certificate else None
    )


def _certificate(pem: str) -> str:
    if not pem.strip():
        return ""
    try:
        if len(pem) > LONGEST_CERTIFICATE:
            raise ValueError("That is no certificate: it is too long.")
        trust.read(pem.strip())
    except ValueError as error:
        remedy = "Paste the text from BEGIN CERTIFICATE to END CERTIFICATE."
        raise BadValue(str(error), remedy, field="body.certificate") from error
    return pem.strip() + "\n"


def _check_token_may_go_there(site: Site, url: str, certificate: str) -> None:
    """A token that is known is told to nobody else: no other host, unless it shows the same certificate."""
    now, then = urlsplit(site.agent_url), urlsplit(url)
    proved = then.scheme == "https" and certificate and certificate == site.agent_certificate
    if not proved and (then.hostname != now.hostname or (now.scheme, then.scheme) == ("https", "http")):
        raise BadValue(
            f"The token of {site.name} is not sent to {then.scheme}://{then.hostname} unseen.",
            "Give the token, or a one-time code; or keep the certificate that is trusted.",
            field="body.token",
        )


def _enrolled(site: Site, typed: str) -> str:
    """The token that an agent gives for its one-time code, after it was seen that the code is its own."""
    try:
        code = trust.code_bytes(typed)
    except ValueError as error:
        raise BadValue(str(error), "Type the code that the agent printed.", field="body.enrolment") from error
    parts = urlsplit(site.agent_url)
    if parts.scheme == "https" and not site.agent_certificate:
        try:
            site.agent_certificate = trust.shown_by(parts.hostname or "", parts.port or 443)
        except (OSError, ValueError) as error:
            raise _nobody(site) from error
    if parts.scheme == "https" and not trust.belongs_to(code, trust.read(site.agent_certificate)):
        raise Refused(
            f"The certificate that {site.agent_url} shows is not the one that the code was given out with.",
            "The code is of another agent, or something stands in between.",
            code="agent-certificate",
        )
    try:
        line = speak_to(site.agent_url, seal(""), site.agent_certificate)
        return put_to(line, lambda agent: agent.enrol(typed.strip(), site.code))
    except SiteRefused as refused:
        raise Refused(
            f"The agent at {site.agent_url} does not take the code: {refused}",
            "A code is good once. Have it print another.",
            code=refused.code,
        ) from refused
    except SiteUntrusted as error:
        raise Refused(str(error), TRY, code="agent-certificate") from error
    except SiteUnreachable as error:
        raise _nobody(site) from error


def _introduced(site: Site) -> dict[str, Any]:
    """What an agent says of itself to who has its token. Raises Refused.

    What answers and is no agent is not told from what does not answer, neither in words nor in time: this
    form must not be a way to find out what else listens on the hosts of agents.
    """
    begin = time.monotonic()
    try:
        said = ask(site, lambda agent: agent.capabilities())
        if isinstance(said, dict) and "protocol" in said:
            return said
    except SiteUntrusted as error:
        raise Refused(f"{site.agent_url}: {error}", TRY, code="agent-not-trusted") from error
    except SiteUnreachable as error:
        # The line was there, and broke: TLS 1.3 says no to a certificate only after the handshake.
        if isinstance(error.__cause__, ReadError | WriteError | RemoteProtocolError):
            why = ""
            with suppress(SiteUnreachable):
                why = ask(site, lambda agent: agent.distrust(), 2 * trust.CONNECT_S)
            if why:
                raise Refused(f"{site.agent_url}: {why}", TRY, code="agent-not-trusted") from error
    except SiteRefused:
        pass
    time.sleep(max(PATIENCE_S - (time.monotonic() - begin), 0.0))
    raise _nobody(site)


def _nobody(site: Site) -> Refused:
    return Refused(
        f"No site agent that knows this token answers at {site.agent_url}.", TRY, code="site-unreachable"
    )
