"""People: invited, given roles, disabled, and never removed, because evidence names them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from datetime import datetime
from typing import Any
from urllib.parse import quote

from django.conf import settings
from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.contrib.auth.tokens import default_token_generator
from django.core.exceptions import ValidationError
from django.core.validators import validate_email
from django.db.models import Prefetch, QuerySet
from django.db.models.functions import Lower

from maestoso.core.codec import from_data, to_data
from maestoso.core.errors import BadValue, DomainError, NotFound, Refused
from maestoso.core.people.roles import ADMINISTRATOR, BY_CODE, WORDS, Role
from maestoso.core.people.scope import Scope
from maestoso.server.access.models import IdentityProvider, OutsideIdentity, Reading, RoleGrant, RoleRule
from maestoso.server.access.reach import check_scopes
from maestoso.server.access.roles import check_codes, known_roles
from maestoso.server.access.second_factor import forget_devices, has_one, has_passkey
from maestoso.server.access.shapes import (
    AccountSave,
    Invitation,
    InvitationAccept,
    People,
    PersonInvite,
    PersonSave,
    PersonView,
    ReadingSave,
    RoleView,
)
from maestoso.server.audit.record import recorded
from maestoso.server.common.hooks import Hook
from maestoso.server.estate.services import check_zone

mail_link: Hook[[User, str], str | None] = Hook()
"""Mails a link to its person: empty when that is done, why it was not, or None where no mail is sent."""
link_wanted: Hook[[User], None] = Hook()
"""Has a link mailed to somebody who forgot the password, as soon as that can be."""
GOOD_FOR_DAYS = settings.PASSWORD_RESET_TIMEOUT // 86_400


class BadInvitation(DomainError):
    """A link that was used, has ended, or was never given. Remedy: ask for a new one."""

    code = "bad-invitation"
    status = 403


def _everybody() -> QuerySet[User]:
    grants = RoleGrant.objects.order_by("role")
    rows = User.objects.order_by("username").select_related("outside")
    return rows.prefetch_related(Prefetch("grants", grants))


def all_people() -> People:
    """Everybody, with the roles that there are."""
    return People(
        people=tuple(map(person_view, _everybody())),
        roles=tuple(map(role_view, known_roles().values())), permissions=WORDS,
        provider=provider_name(),
    )  # fmt: skip


def provider_name() -> str:
    """What people may sign in through; empty where there is nothing."""
    return IdentityProvider.objects.values_list("name", flat=True).first() or ""


def person_view(user: User) -> PersonView:
    """A person with their roles."""
    outside = getattr(user, "outside", None)
    came = outside.subject is not None if outside else user.has_usable_password()
    return PersonView(
        name=user.username, full_name=user.first_name, mail=user.email,
        state="disabled" if not user.is_active else "active" if came else "invited",
        roles=tuple(grant.role for grant in user.grants.all()),
        scopes={grant.role: from_data(Scope, grant.scope) for grant in user.grants.all() if grant.scope},
        groups={grant.role: grant.group for grant in user.grants.all() if grant.group},
        sources={grant.role: _source(grant) for grant in user.grants.all()},
        through_provider=outside is not None,
        second_factor=has_one(user) or has_passkey(user), last_sign_in=user.last_login,
    )  # fmt: skip


def _source(grant: RoleGrant) -> str:
    """Where somebody has a role from."""
    at = f"on {grant.at:%Y-%m-%d}"
    if grant.group:
        return f"by the group {grant.group} of {grant.by}, {at}"
    return f"given by {grant.by} {at}" if grant.by else f"given on the machine itself {at}"


def role_view(role: Role) -> RoleView:
    """A role with its permissions in words, in the order of the table."""
    holds = tuple(one for one in WORDS if one in role.permissions)
    return RoleView(
        code=role.code, name=role.name, words=role.words, permissions=tuple(WORDS[one] for one in holds),
        holds=holds, second_factor=RoleRule.objects.filter(role=role.code).exists(),
        own=role.code not in BY_CODE,
    )  # fmt: skip


@recorded()
def invite(sent: PersonInvite, *, by: str, at: datetime) -> Invitation:
    """Somebody new, who chooses a password with the link. Raises BadValue, Refused."""
    name = sent.name.strip()
    user = User(username=name, first_name=_full_name(sent.full_name), email=_mail(sent.mail))
    try:
        User.username_validator(name)
    except ValidationError as error:
        raise BadValue(
            f"{name[:40]!r} is no name to sign in with.",
            "Use letters, digits and @ . + - _ only.",
            field="name",
        ) from error
    if len(name) > 150:
        raise BadValue("The name is very long.", "Give at most 150 characters.", field="name")
    if User.objects.annotate(low=Lower("username")).filter(low=name.lower()).exists():
        raise Refused(f"There is somebody called {name} already.", "Choose another name.", field="name")
    user.set_unusable_password()
    user.save()
    _give(user, sent.roles, sent.scopes, by=by, at=at)
    _sign_in_where(user, sent.through_provider)
    return _invitation(user)


@recorded()
def invite_again(name: str) -> Invitation:
    """A new link, for who has lost the first or forgotten the password; the password of now stays good."""
    user = find_person(name)
    if not user.is_active:
        raise Refused(f"The account of {name} is disabled.", "Enable it first.")
    if hasattr(user, "outside"):
        raise Refused(f"{name} signs in through {provider_name()} and has no password.", "No link is needed.")
    return _invitation(user)


def _invitation(user: User) -> Invitation:
    view = person_view(find_person(user.username))
    if view.through_provider:
        return Invitation(person=view, link="", days=0)
    return Invitation(person=view, link=link_for(user), days=GOOD_FOR_DAYS)


def link_for(user: User) -> str:
    """The page where somebody chooses a password; nothing of it is kept."""
    return f"/invitation/{quote(user.username)}/{default_token_generator.make_token(user)}"


def mailed(made: Invitation) -> Invitation:
    """On its way to whoever is invited, and then not shown; or with why it is not."""
    user = find_person(made.person.name)
    if not made.link or not user.email:
        return made
    why = next((said for said in mail_link(user, made.link) if said is not None), None)
    if why is None:
        return made
    return replace(made, not_mailed=why) if why else replace(made, link="", mailed=True)


def forgotten(name: str) -> None:
    """Have a link mailed to who forgot the password; who asks does not learn whether there is such a one."""
    user = User.objects.filter(username=name, is_active=True, outside=None).exclude(email="").first()
    if user is not None:
        link_wanted(user)


@recorded()
def save_person(name: str, sent: PersonSave, *, by: str, at: datetime) -> PersonView:
    """A person as they shall be. Raises NotFound, BadValue, Refused: somebody must administer."""
    # All who administer are locked: of two who take the role from each other, the second is refused.
    rows = RoleGrant.objects.select_for_update().filter(role=ADMINISTRATOR).select_related("user")
    others = [row for row in rows if row.user.username != name and _signs_in(row.user) and not row.scope]
    user = find_person(name)
    for_everything = ADMINISTRATOR in sent.roles and _scope(sent.scopes, ADMINISTRATOR).is_everything
    stays = sent.active and for_everything and not sent.through_provider
    if not others and not stays and _administers(user):
        raise Refused(
            f"{name} is the only administrator who can sign in with a password.",
            "Give the role to somebody else first.", field="roles", code="last-administrator",
        )  # fmt: skip
    user.first_name, user.email, user.is_active = _full_name(sent.full_name), _mail(sent.mail), sent.active
    user.save()
    _give(user, sent.roles, sent.scopes, by=by, at=at)
    _sign_in_where(user, sent.through_provider)
    return person_view(find_person(name))


def _sign_in_where(user: User, through_provider: bool) -> None:
    """An account signs in at one place; where that changes, its sessions end. Raises Refused."""
    outside = OutsideIdentity.objects.filter(user=user).first()
    if through_provider == (outside is not None):
        return
    if outside is not None:
        outside.delete()
    else:
        if not provider_name():
            raise Refused("There is no provider to sign in through.", "Set it up first.",
                          field="through_provider")  # fmt: skip
        OutsideIdentity.objects.create(user=user)
        forget_devices(user)
    # Sessions are good for a password: another one that nobody knows ends them.
    user.set_unusable_password()
    user.save()


def _signs_in(user: User) -> bool:
    return user.is_active and user.has_usable_password()


def _administers(user: User) -> bool:
    return any(not row.scope for row in RoleGrant.objects.filter(user=user, role=ADMINISTRATOR))


def _give(user: User, roles: tuple[str, ...], scopes: Mapping[str, Scope], *, by: str, at: datetime) -> None:
    """Give what is new, take back what is not wanted, each for its scope. Raises BadValue, Refused."""
    _check_scopes(roles, scopes)
    check_codes(roles)
    own = {grant.role: grant for grant in RoleGrant.objects.filter(user=user)}
    for role, grant in own.items():
        if role in roles:
            continue
        if grant.group:
            raise Refused(
                f"{user.username} has the role {role} by the group {grant.group} of {grant.by}.",
                "Take them out of the group there, or change what it gives.", field="roles",
            )  # fmt: skip
        grant.delete()
    for role in dict.fromkeys(roles):
        scope = _scope(scopes, role)
        kept = {} if scope.is_everything else to_data(scope)
        if role not in own:
            RoleGrant.objects.create(user=user, role=role, scope=kept, by=by, at=at)
        elif own[role].scope != kept and not own[role].group:
            own[role].scope = kept
            own[role].save()


def _scope(scopes: Mapping[str, Scope], role: str) -> Scope:
    return scopes.get(role, Scope())


def _check_scopes(roles: tuple[str, ...], scopes: Mapping[str, Scope]) -> None:
    """Raises BadValue for a scope of a role that is not given, or of a site or plan that there is not."""
    odd = next((role for role in scopes if role not in roles), None)
    if odd is not None:
        raise BadValue(
            f"scopes has {odd[:40]!r}, which is no role of theirs.", "Give the role as well.", field="scopes"
        )
    check_scopes(scopes)


@recorded()
def accept(sent: InvitationAccept) -> User:
    """Choose a password with a link. Raises BadValue; BadInvitation, the same for whatever is wrong."""
    user = User.objects.filter(username=sent.name, is_active=True).first()
    if user is None or not default_token_generator.check_token(user, sent.secret):
        raise BadInvitation(
            "This link is not good: it was used, has ended, or is not whole.",
            "Ask an administrator for another one.",
        )
    set_password(user, sent.password, field="password")
    return user


def set_password(user: User, password: str, *, field: str) -> None:
    """A new password by the rules. Raises BadValue."""
    try:
        validate_password(password, user)
    except ValidationError as error:
        raise BadValue("The password is not good enough.", " ".join(error.messages), field=field) from error
    user.set_password(password)
    user.save()


@recorded()
def save_account(user: Any, sent: AccountSave) -> None:
    """What everybody may change of themselves. Raises BadValue."""
    user.first_name, user.email = _full_name(sent.full_name), _mail(sent.mail)
    user.save()


@recorded()
def save_reading(user: User, sent: ReadingSave) -> None:
    """How somebody wants to read. Raises BadValue."""
    if sent.time_zone:
        check_zone(sent.time_zone)
    wanted = {"time_zone": sent.time_zone, "dates": sent.dates, "theme": sent.theme}
    Reading.objects.update_or_create(user=user, defaults=wanted)


def reading_of(user: Any) -> ReadingSave:
    """How somebody reads; as the browser does, for who has said nothing."""
    row = Reading.objects.filter(user=user.pk).values("time_zone", "dates", "theme").first()
    return from_data(ReadingSave, row) if row else ReadingSave()


def find_person(name: str) -> User:
    """Somebody by name. Raises NotFound."""
    user = _everybody().filter(username=name).first()
    if user is None:
        raise NotFound(f"There is nobody called {name[:40]!r}.", "Choose somebody on the page People.")
    return user


def _full_name(text: str) -> str:
    found = " ".join(text.split())
    if not 1 <= len(found) <= 80:
        raise BadValue("There is no full name, or a long one.", "Give 1 to 80 characters.", field="full_name")
    return found


def _mail(text: str) -> str:
    found = text.strip()
    if found:
        try:
            validate_email(found)
        except ValidationError as error:
            raise BadValue(
                f"{found[:60]!r} is no mail address.", "Write it like ada@harbour.example.", field="mail"
            ) from error
    return found[:254]
