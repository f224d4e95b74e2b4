"""Shapes of people, accounts and tokens in the API."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from typing import Literal

from maestoso.core.people.scope import Scope


@dataclass(frozen=True, slots=True, kw_only=True)
class SignIn:
    """Name and password, and where one is wanted a code of the authenticator app, or a recovery code."""

    name: str
    password: str
    one_time_code: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class ReadingSave:
    """How somebody reads: ``time_zone`` and ``theme`` are empty for those of the browser.

    ``dates`` are such as 12 Nov 2026, 03:14 (words) or 2026-11-12 03:14 (numbers, ISO 8601).
    """

    time_zone: str = ""
    dates: Literal["words", "numbers"] = "words"
    theme: Literal["", "day", "night"] = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Session:
    """Who is signed in; ``name`` is empty for nobody. ``csrf`` is the X-CSRFToken header of changes.

    ``time_zone`` is that of the organisation: new sites and drills begin with it. ``permissions`` are what
    the person may do; ``lacking`` says of each other permission why not, and who may. ``restricted`` is why
    nothing may be done yet: a second factor is wanted first. ``only`` is what one sees where that is not
    everything. ``provider`` is what one may sign in through instead; empty where there is none.
    ``mail``: a link for a new password can be mailed. ``standby``: this installation only follows another
    one, and ``may_take_over`` whether the person may have it conduct.
    """

    name: str
    full_name: str
    organisation: str
    time_zone: str
    csrf: str
    roles: tuple[str, ...]
    permissions: tuple[str, ...]
    lacking: dict[str, str]
    restricted: str
    only: str
    provider: str
    reading: ReadingSave
    mail: bool
    standby: bool
    may_take_over: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class RoleView:
    """A role that can be given; ``permissions`` in words, ``holds`` their codes.

    ``second_factor``: who has it must sign in with a code as well. ``own``: the organisation made it.
    """

    code: str
    name: str
    words: str
    permissions: tuple[str, ...]
    holds: tuple[str, ...]
    second_factor: bool
    own: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class RoleSave:
    """What is said of a role."""

    second_factor: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class OwnRoleSave:
    """A role of the organisation's own, with the codes of what it may."""

    name: str
    words: str = ""
    permissions: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class FactorBegun:
    """What an authenticator app is given: a secret, the same as an address, and as a picture (a data URI)."""

    secret: str
    uri: str
    picture: str


@dataclass(frozen=True, slots=True, kw_only=True)
class FactorCode:
    """A code of the app."""

    one_time_code: str


@dataclass(frozen=True, slots=True, kw_only=True)
class FactorConfirmed:
    """Codes that each stand for one of the app, once; shown this once."""

    recovery_codes: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class PasswordGiven:
    """The password of now, for what somebody at an open page must not do."""

    password: str


@dataclass(frozen=True, slots=True, kw_only=True)
class PersonView:
    """Somebody who can be given roles. ``state`` is active, invited (nobody has accepted yet) or disabled.

    ``scopes`` are what roles are given for, of those that are not for everything; ``sources`` say where roles
    come from, by role, and ``groups`` are those at the provider, where it is one. ``through_provider``: signs
    in there and not here.
    """

    name: str
    full_name: str
    mail: str
    state: str
    roles: tuple[str, ...]
    scopes: dict[str, Scope]
    groups: dict[str, str]
    sources: dict[str, str]
    through_provider: bool
    second_factor: bool
    last_sign_in: datetime | None


@dataclass(frozen=True, slots=True, kw_only=True)
class People:
    """Everybody, with the roles that there are, all permissions in words by their codes, and what one may
    sign in through (empty: nothing)."""

    people: tuple[PersonView, ...]
    roles: tuple[RoleView, ...]
    permissions: dict[str, str]
    provider: str


@dataclass(frozen=True, slots=True, kw_only=True)
class PersonInvite:
    """Somebody to be invited, who signs in as ``name``; roles without a scope are for everything."""

    name: str
    full_name: str
    mail: str = ""
    roles: tuple[str, ...]
    scopes: dict[str, Scope] = field(default_factory=dict)
    through_provider: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class PersonSave:
    """A person as they shall be; roles without a scope are for everything."""

    full_name: str
    mail: str
    active: bool
    roles: tuple[str, ...]
    scopes: dict[str, Scope] = field(default_factory=dict)
    through_provider: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Invitation:
    """A link with which somebody chooses a password, shown once. It is good for ``days``, and once.

    Empty for who signs in through the provider, and where it was ``mailed``; ``not_mailed`` says why not.
    """

    person: PersonView
    link: str
    days: int
    mailed: bool = False
    not_mailed: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class LinkWanted:
    """``shown``: whoever asks gives the link on, also where it could be mailed."""

    shown: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class PasswordForgotten:
    """Who forgot it."""

    name: str


@dataclass(frozen=True, slots=True, kw_only=True)
class InvitationAccept:
    """What the link holds, and the password that is chosen."""

    name: str
    secret: str
    password: str


@dataclass(frozen=True, slots=True, kw_only=True)
class SessionView:
    """A session of one's own: since when, from where, with what; ``here`` is the one that asks."""

    began_at: datetime
    seen_at: datetime
    address: str
    browser: str
    here: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class TokenView:
    """A token of a program, without its secret; ``key`` names it. ``only`` says what it is for, where that is
    less than its roles are."""

    key: str
    name: str
    roles: tuple[str, ...]
    created_at: datetime
    ends_at: datetime | None
    used_at: datetime | None
    only: str


@dataclass(frozen=True, slots=True, kw_only=True)
class TokenAsked:
    """A token to be made, good for so many days, for some of one's own roles, and of what they are for."""

    name: str
    roles: tuple[str, ...]
    days: int = 90
    scope: Scope = field(default_factory=Scope)


@dataclass(frozen=True, slots=True, kw_only=True)
class TokenMade:
    """A new token; ``secret`` is shown this once."""

    secret: str
    token: TokenView


@dataclass(frozen=True, slots=True, kw_only=True)
class Account:
    """One's own account. ``scopes`` says in words what roles are given for that are not for everything."""

    name: str
    full_name: str
    mail: str
    roles: tuple[RoleView, ...]
    scopes: dict[str, str]
    sessions: tuple[SessionView, ...]
    tokens: tuple[TokenView, ...]
    through_provider: bool
    second_factor: bool
    recovery_codes: int
    passkeys: tuple[PasskeyView, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class AccountSave:
    """What everybody may change of their own account."""

    full_name: str
    mail: str


@dataclass(frozen=True, slots=True, kw_only=True)
class PasswordChange:
    """The password of now, and the new one."""

    password: str
    new_password: str


@dataclass(frozen=True, slots=True, kw_only=True)
class ProviderView:
    """A provider of identities (OpenID Connect), without the client's secret.

    ``roles`` are those that its groups give, by group, and ``scopes`` what for, where that is not everything;
    ``groups_claim`` is where its ID token names groups.
    ``makes_accounts``: whoever it knows gets an account. ``second_factor``: it asks for one itself, which
    counts for roles that want one. ``comes_back_to`` is the page that it must send browsers back to.
    """

    name: str
    issuer: str
    client_id: str
    groups_claim: str
    roles: dict[str, tuple[str, ...]]
    scopes: dict[str, Scope]
    makes_accounts: bool
    second_factor: bool
    comes_back_to: str


@dataclass(frozen=True, slots=True, kw_only=True)
class ProviderSetting:
    """The provider, where there is one."""

    provider: ProviderView | None


@dataclass(frozen=True, slots=True, kw_only=True)
class ProviderSave:
    """The provider as it shall be. An empty ``client_secret`` keeps the one of now."""

    name: str
    issuer: str
    client_id: str
    client_secret: str = ""
    groups_claim: str = "groups"
    roles: dict[str, tuple[str, ...]]
    scopes: dict[str, Scope] = field(default_factory=dict)
    makes_accounts: bool = False
    second_factor: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class ProviderFound:
    """What the provider says of itself: where people sign in, and how many keys it signs with."""

    issuer: str
    authorization: str
    keys: int


@dataclass(frozen=True, slots=True, kw_only=True)
class ProviderAsked:
    """The address at the provider where to sign in."""

    address: str


@dataclass(frozen=True, slots=True, kw_only=True)
class ProviderAnswer:
    """What the provider sent the browser back with."""

    authorization_code: str
    state: str


@dataclass(frozen=True, slots=True, kw_only=True)
class PasskeyView:
    """A passkey of one's own."""

    id: int
    name: str
    made_at: datetime
    used_at: datetime | None


@dataclass(frozen=True, slots=True, kw_only=True)
class PasskeyOptions:
    """What the browser needs to ask a device, as JSON (Web Authentication, level 3)."""

    options: str


@dataclass(frozen=True, slots=True, kw_only=True)
class PasskeySave:
    """What a device made, as JSON, and what it is to be called."""

    name: str
    credential: str


@dataclass(frozen=True, slots=True, kw_only=True)
class PasskeyAnswer:
    """What a device signed, as JSON."""

    credential: str
