"""What a site can be asked to do: every verb with its arguments, its result and its refusals, as types.

The schemas of the site protocol and the tables of its page are made from these. Fields with a default
may be left out; whoever reads does not mind fields that it does not know."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal

from maestoso.core.model.estate import Link, Prefix, Workload
from maestoso.core.model.landing import Landing
from maestoso.core.model.protection import Group

REFUSALS: Mapping[str, str] = {
    "address-held": "An address is held for another workload already.",
    "address-not-here": "The site has no front door at that address, and can have none.",
    "address-taken": "The address leads to something else already.",
    "agent-fault": "Something went wrong in the agent; its log says more.",
    "bad-definition": "A group, a workload or a link cannot be read; the reason names the field.",
    "bad-landing": "A landing cannot be read; the reason names the field.",
    "bad-value": "The request or an argument cannot be read; the reason names the field.",
    "busy": "Too much is under way; ask again after the seconds of `Retry-After`.",
    "certificate-ends": "The certificate is good for fewer days than were asked for.",
    "copy-exists": "There is a copy of that name already.",
    "reign-past": "Somebody else has taken over from whoever asks, and conducts for it now.",
    "fence-too-low": "A higher fence was seen for that run: somebody else conducts it now.",
    "fenced": "The machine is fenced: it runs, or will run, at another site.",
    "interrupted": "The agent was restarted meanwhile, and cannot take it up again.",
    "lease-held": "Whoever conducts, or has been promised to, holds the lease still.",
    "key-missing": "The copies shall be encrypted, and no key came along.",
    "network-exists": "There is a network of that name already.",
    "network-in-use": "Something is still on the network.",
    "no-answer": "Nothing answers there.",
    "no-code": "There is no one-time code that is still good.",
    "no-guest-agent": "The machine has no guest agent that could be asked.",
    "no-lease": "Nobody has held a lease here.",
    "no-room": "The host pool has too little memory left.",
    "no-such-copy": "There is no machine of that name here.",
    "no-such-group": "No copies of that group are held here.",
    "no-such-network": "There is no network of that name here.",
    "no-such-nic": "The machine has no adapter of that name.",
    "no-such-pool": "There is no pool of that name here, or it cannot be written to.",
    "no-such-replica": "No copy of that workload is held in that group here.",
    "not-equal": "The copies are behind what the disks of their fenced source hold.",
    "not-found": "Nothing of that name is known here; of a key, that it was never asked for.",
    "not-isolated": "A way leads from the isolated network to production, hop by hop as the reason says, or "
    "a front door of production into it.",
    "not-promoted": "The copies of the group are not writable here.",
    "other-site": "The agent is of another site than the one that it was taken for.",
    "point-gone": "The recovery point is not held here any more.",
    "powered-off": "The machine has no power.",
    "powered-on": "The machine has power.",
    "ready-timeout": "No heartbeat came within the time limit.",
    "records-behind": "Whoever asks lacks what was written down since the last renewals of a lease.",
    "registered": "The machine is still registered.",
    "remains": "Something still carries the mark of the run; the reason names it.",
    "script-altered": "The text of the script does not have the hash that was sent with it.",
    "script-timeout": "The script did not end within its time limit, and was killed.",
    "still-running": "The machine still runs, and its power may not be cut.",
    "unauthorised": "The token is missing or wrong.",
    "unknown-verb": "The agent does not have that verb.",
    "wrong-code": "That is not the one-time code that was printed.",
    "wrong-answer": "Something answers, and not what was asked for.",
}
"""Every code of a refusal or a failure, and what it says. An agent may have more of its own."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Nothing:
    """No arguments, or no result."""


@dataclass(frozen=True, slots=True, kw_only=True)
class OfGroup:
    """A group by its code."""

    group: str


@dataclass(frozen=True, slots=True, kw_only=True)
class OfMark:
    """The mark of a run, which everything carries that was made for it."""

    mark: str


@dataclass(frozen=True, slots=True, kw_only=True)
class OfWorkloads:
    """Workloads by their names."""

    workloads: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Protect:
    """What is copied, how, and over which link. ``digest`` is repeated as it is. ``secrets`` holds the
    ``key`` of encrypted copies."""

    group: Group
    digest: str
    workloads: tuple[Workload, ...]
    link: Link | None = None
    secrets: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class Protected:
    """The ``digest`` as it was given."""

    digest: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Because:
    """Why it is paused; empty goes on."""

    because: str


@dataclass(frozen=True, slots=True, kw_only=True)
class PinPoint:
    """A point and its label; an empty label lets it go."""

    point: str
    label: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Sync:
    """``contents``: what the fences of a closed-down source said, by workload."""

    group: str
    contents: dict[str, float] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class Synced:
    """The point that was made, and the moment that it is of."""

    point: str
    at: str


@dataclass(frozen=True, slots=True, kw_only=True)
class HoldLandings:
    """Landings to keep."""

    landings: tuple[Landing, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Held:
    """Why a landing cannot be held, by workload; all others are."""

    refused: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class MakeSandbox:
    """An isolated network for the run ``mark``; DHCP as on the network ``like``. ``routers``: addresses
    (CIDR) that answer as gateways; where none are said, those of ``like``. They lead nowhere."""

    mark: str
    like: str = ""
    routers: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class NamedCopy:
    """A name and what it leads to: addresses for `A` and `AAAA`, names for `CNAME`, and so on."""

    name: str
    type: str
    values: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class NameCopies:
    """Names that the resolver of the isolated networks of ``mark`` answers, whoever has them outside."""

    mark: str
    names: tuple[NamedCopy, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Door:
    """A front door: whoever comes to one of its ports (`tcp/443`) at its address, from one of its sources
    (from anywhere, where there are none), comes to the machine at the same port."""

    name: str
    address: str
    ports: tuple[str, ...]
    machine: str
    sources: tuple[Prefix, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class PublishAddress:
    """Front doors that open for the run ``mark``; without one, they are the site's own."""

    doors: tuple[Door, ...]
    mark: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class WithdrawAddress:
    """Front doors by their names: those that the run ``mark`` opened; without one, the site's own."""

    doors: tuple[str, ...]
    mark: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class ProveIsolation:
    """The networks to begin from, beside those that copies with the mark are on. ``doors``: the addresses at
    which front doors of the run will open."""

    mark: str
    networks: tuple[str, ...] = ()
    doors: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Proved:
    """The networks from which every way was followed."""

    networks: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class ClonePoint:
    """A workload of a group as it was at a point, for the run ``mark``."""

    workload: str
    group: str
    point: str | None
    mark: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Cloned:
    """The point that the clone is of."""

    point: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Register:
    """Where it runs. Live, ``group`` says whose promoted copies its disks are, ``workload`` which."""

    host_pool: str
    folder: str = ""
    group: str = ""
    workload: str = ""
    mark: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Size:
    """Cores and memory."""

    cores: int
    memory_mib: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Adapter:
    """One adapter. ``connected`` false leaves it unplugged; ``reserve``: what DHCP shall give it."""

    nic: str
    network: str
    mac: str
    connected: bool = True
    reserve: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class AttachNics:
    """All adapters at once."""

    nics: tuple[Adapter, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Addresses:
    """What the guest shall have on one adapter; ``dhcp`` lets it ask."""

    nic: str
    addresses: tuple[str, ...] = ()
    gateways: tuple[str, ...] = ()
    dns: tuple[str, ...] = ()
    suffix: str = ""
    dhcp: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class SetAddresses:
    """Adapters whose guest gets other settings."""

    nics: tuple[Addresses, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class AdapterFound:
    """What an adapter really has."""

    nic: str
    network: str
    mac: str
    connected: bool = True
    dhcp: bool = False
    addresses: tuple[str, ...] = ()
    gateways: tuple[str, ...] = ()
    dns: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class AdaptersFound:
    """The adapters of all copies with the mark, by workload; and the front doors that were opened for it."""

    adapters: dict[str, tuple[AdapterFound, ...]]
    doors: tuple[Door, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class PowerOn:
    """``unless_on``: one that has power already is no failure."""

    unless_on: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class AwaitHeartbeat:
    """The time limit; with ``restart`` its power is cut and given again first."""

    timeout_s: float
    restart: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class ProbeService:
    """A service that the workload offers."""

    service: str
    protocol: str
    port: int
    timeout_s: float
    restart: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class RunScript:
    """A script with its hash (SHA-256 of the text in UTF-8). Parameters and secrets are its environment."""

    script: str
    interpreter: str
    text: str
    sha256: str
    where: Literal["site", "guest"]
    timeout_s: float
    mark: str = ""
    parameters: dict[str, str] = field(default_factory=dict)
    secrets: dict[str, str] = field(default_factory=dict)
    ok_codes: tuple[int, ...] = (0,)


@dataclass(frozen=True, slots=True, kw_only=True)
class ScriptEnded:
    """Its exit code and the end of what it said."""

    exit_code: int
    output: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Probe:
    """What to ask, of the copy or of ``address``: ``path``, ``status`` and ``text`` of ``http``, ``days``
    that a certificate must be good for of ``tls``, the ``name`` to look up of ``dns``. ``outside``: through
    the front door that has the address."""

    protocol: str
    port: int
    timeout_s: float
    mark: str = ""
    address: str = ""
    path: str = "/"
    status: int = 200
    text: str = ""
    days: int = 14
    name: str = ""
    outside: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class ShutDown:
    """The time that its guest has; with ``force`` its power is cut after that."""

    limit_s: float = 300.0
    force: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class WasShutDown:
    """Whether its power was cut."""

    forced: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Fence:
    """``cut`` takes the power of one that runs; without it, that is a failure."""

    cut: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Fenced:
    """Whether it was running; when its disks were last written to (seconds since 1970), and a sum over them.

    A machine that is not here has no contents.
    """

    was_running: bool
    contents: float | None = None
    checksum: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Promote:
    """As of which point; ``apart``: members that come up from a point of their own. ``contents``: what the
    fences of the source said; with ``equal`` nothing may be behind that."""

    group: str
    point: str | None
    mark: str
    workloads: tuple[str, ...] = ()
    contents: dict[str, float] = field(default_factory=dict)
    equal: bool = False
    apart: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class Promoted:
    """The point, and the workloads that are behind what their source held."""

    point: str
    behind: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Demote:
    """The group, and the mark of the run that made it writable."""

    group: str
    mark: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Adopt:
    """The machines of a run as they are described from now on."""

    workloads: tuple[Workload, ...]
    mark: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class GiveUp:
    """Workloads that are at home elsewhere, and front doors that are open elsewhere."""

    workloads: tuple[str, ...]
    mark: str = ""
    doors: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class GivenUp:
    """Those that had power when they were given up."""

    were_running: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class ChangedSince:
    """Bytes since it was promoted, and the moment that it was promoted as of (seconds since 1970)."""

    changed_bytes: int
    since: float


@dataclass(frozen=True, slots=True, kw_only=True)
class ReverseCopying:
    """As of ``protect``, with what the other side changed, and since when."""

    group: Group
    digest: str
    workloads: tuple[Workload, ...]
    link: Link | None = None
    secrets: dict[str, str] = field(default_factory=dict)
    changed_bytes: int = 0
    since: float | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Reversed:
    """The point at which both sides are equal, and the ``digest`` as it was given."""

    point: str
    digest: str


@dataclass(frozen=True, slots=True, kw_only=True)
class SiteAnswered:
    """Its own code."""

    site: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Verb:
    """One verb: what its ``subject`` is, its arguments and result, how it may fail, what it does.

    Those ``for_labs`` break something on purpose; a site where that must not be does not have them, and
    lacks nothing.
    """

    subject: str
    args: type
    result: type
    refusals: tuple[str, ...]
    does: str
    for_labs: bool = False


VERBS: Mapping[str, Verb] = {
    "protect": Verb(
        subject="the group",
        args=Protect,
        result=Protected,
        refusals=("bad-definition", "key-missing"),
        does="copy the group from now on as its definition says; the first copy of what is new runs at "
        "`pace`. Where the policy is `encrypted`, `secrets` holds the `key`: refuse without one, and "
        "never write it down in clear",
    ),
    "unprotect": Verb(
        subject="the group",
        args=Nothing,
        result=Nothing,
        refusals=(),
        does="stop copying and give the points up",
    ),
    "pause-copying": Verb(
        subject="the group",
        args=Because,
        result=Nothing,
        refusals=("no-such-group",),
        does="stop for a reason; an empty reason goes on",
    ),
    "pin-point": Verb(
        subject="the group",
        args=PinPoint,
        result=Nothing,
        refusals=("point-gone",),
        does="a point with a label is never removed; an empty label lets it go",
    ),
    "sync": Verb(
        subject="the group",
        args=Sync,
        result=Synced,
        refusals=("no-such-group",),
        does="copy the latest changes",
    ),
    "hold-landings": Verb(
        subject="`landings`",
        args=HoldLandings,
        result=Held,
        refusals=("bad-landing",),
        does="keep room, names and addresses for workloads that may arrive, and show it to everybody at "
        "the site; a landing replaces the one held before",
    ),
    "release-landings": Verb(
        subject="`landings`",
        args=OfWorkloads,
        result=Nothing,
        refusals=(),
        does="give them back",
    ),
    "make-sandbox": Verb(
        subject="the network",
        args=MakeSandbox,
        result=Nothing,
        refusals=("network-exists",),
        does="make an isolated network",
    ),
    "remove-sandbox": Verb(
        subject="the network",
        args=Nothing,
        result=Nothing,
        refusals=("network-in-use",),
        does="remove it; refused while a registered machine is on it",
    ),
    "name-copies": Verb(
        subject="the cue's title",
        args=NameCopies,
        result=Nothing,
        refusals=("no-such-network",),
        does="let the isolated networks of the run answer these names, besides those that they were given "
        "before; gone with the networks, and nowhere else",
    ),
    "publish-address": Verb(
        subject="`run`, or the cue's title",
        args=PublishAddress,
        result=Nothing,
        refusals=("bad-value", "no-such-copy", "address-not-here", "address-taken"),
        does="open these front doors, all or none; a machine that has no power yet is led to when it has. "
        "Those of a run stay out of the inventory until it is `adopt`ed",
    ),
    "withdraw-address": Verb(
        subject="`run`, or the cue's title",
        args=WithdrawAddress,
        result=Nothing,
        refusals=(),
        does="let nobody come in by these front doors any more; one that is not open is no failure. The "
        "site's own stay in the inventory, and can be opened again",
    ),
    "prove-isolation": Verb(
        subject="`networks` or `copies`",
        args=ProveIsolation,
        result=Proved,
        refusals=("not-isolated",),
        does="follow every route from these networks and from all copies with this mark; a path to "
        "production is a failure, and is named hop by hop; so is an address of `doors` that a front door of "
        "the site's own has, open or not",
    ),
    "clone-point": Verb(
        subject="the copy",
        args=ClonePoint,
        result=Cloned,
        refusals=("no-such-replica", "point-gone", "copy-exists"),
        does="make a writable copy-on-write clone of the disks at a point",
    ),
    "register": Verb(
        subject="the copy",
        args=Register,
        result=Nothing,
        refusals=("no-such-copy", "no-such-pool", "not-promoted", "copy-exists"),
        does="make it a machine that can be given power; live, its disks are the promoted copies of its "
        "group",
    ),
    "set-size": Verb(
        subject="the copy",
        args=Size,
        result=Nothing,
        refusals=("no-such-copy", "no-room"),
        does="give it its size",
    ),
    "attach-nics": Verb(
        subject="the copy",
        args=AttachNics,
        result=Nothing,
        refusals=("no-such-copy", "no-such-network"),
        does="give it its adapters",
    ),
    "set-addresses": Verb(
        subject="the copy",
        args=SetAddresses,
        result=Nothing,
        refusals=("no-such-copy", "no-guest-agent", "no-such-nic"),
        does="have its guest agent give it addresses, at the latest as it comes up",
    ),
    "read-adapters": Verb(
        subject="`copies`",
        args=OfMark,
        result=AdaptersFound,
        refusals=(),
        does="say what each adapter of the copies really has, and which front doors are open for them",
    ),
    "power-on": Verb(
        subject="a machine",
        args=PowerOn,
        result=Nothing,
        refusals=("no-such-copy", "fenced", "powered-on"),
        does="give power to a copy, or to a machine of the site",
    ),
    "power-off": Verb(
        subject="a machine",
        args=Nothing,
        result=Nothing,
        refusals=(),
        does="take its power away",
    ),
    "await-heartbeat": Verb(
        subject="the copy",
        args=AwaitHeartbeat,
        result=Nothing,
        refusals=("no-such-copy", "no-guest-agent", "powered-off", "ready-timeout"),
        does="ends with the guest's heartbeat, at the time limit, or when power is lost",
    ),
    "probe-service": Verb(
        subject="the copy",
        args=ProbeService,
        result=Nothing,
        refusals=("no-such-copy", "powered-off", "no-answer"),
        does="ends when the service answers, or at the time limit",
    ),
    "run-script": Verb(
        subject="the copy, or the cue's title",
        args=RunScript,
        result=ScriptEnded,
        refusals=("script-altered", "powered-off", "no-answer", "no-guest-agent", "script-timeout"),
        does="check the text against its hash, run it, kill it at the limit. It is done whatever the exit "
        "code: whether that is success is for the plan to say. Secrets are never written down",
    ),
    "probe": Verb(
        subject="the copy, or the cue's title",
        args=Probe,
        result=Nothing,
        refusals=("powered-off", "no-answer", "wrong-answer", "certificate-ends"),
        does="ask as a client in the same networks would (`tcp`, `http`, `tls`, `dns`), until the answer "
        "is right or the limit is over",
    ),
    "unregister": Verb(
        subject="the copy",
        args=Nothing,
        result=Nothing,
        refusals=("powered-on",),
        does="a machine no more: off every network; the disks of a clone stay until `discard-clone`",
    ),
    "discard-clone": Verb(
        subject="the copy",
        args=Nothing,
        result=Nothing,
        refusals=("registered",),
        does="remove its disks",
    ),
    "leak-check": Verb(
        subject="the mark",
        args=OfMark,
        result=Nothing,
        refusals=("remains",),
        does="fails while anything of the run is left",
    ),
    "ask-site": Verb(
        subject="the site",
        args=Nothing,
        result=SiteAnswered,
        refusals=(),
        does="that it answers is the answer",
    ),
    "shut-down": Verb(
        subject="a machine",
        args=ShutDown,
        result=WasShutDown,
        refusals=("no-such-copy", "still-running"),
        does="by its guest within the limit; then, only with `force`, by cutting its power",
    ),
    "fence": Verb(
        subject="a machine",
        args=Fence,
        result=Fenced,
        refusals=("still-running",),
        does="make sure that it is off, and give it no power from now on. Without `was_running`, and in a "
        "planned run without `contents`, the step has failed, and nothing is promoted",
    ),
    "lift-fence": Verb(
        subject="a machine",
        args=Nothing,
        result=Nothing,
        refusals=("no-such-copy",),
        does="it may have power again",
    ),
    "promote": Verb(
        subject="the group",
        args=Promote,
        result=Promoted,
        refusals=("no-such-group", "point-gone", "not-equal"),
        does="make the copies writable as of the point; nothing is copied any more. Again from another "
        "point, its machines lose their power first",
    ),
    "demote": Verb(
        subject="the group",
        args=Demote,
        result=Nothing,
        refusals=("registered",),
        does="discard what the copies changed and copy again; refused while one of them is registered",
    ),
    "kill-machine": Verb(
        subject="a machine",
        args=Nothing,
        result=Nothing,
        refusals=("no-such-copy", "powered-off"),
        does="kill what runs it (SIGKILL), as when its host dies: nothing is told to its guest, nothing is "
        "written any more. For labs only: a site whose machines nobody may kill on purpose does not have it",
        for_labs=True,
    ),
    "wake-host": Verb(
        subject="the host pool",
        args=Nothing,
        result=Nothing,
        refusals=("no-such-pool",),
        does="standby hosts carry load",
    ),
    "adopt": Verb(
        subject="`run`",
        args=Adopt,
        result=Nothing,
        refusals=("bad-definition",),
        does="the machines of the run are the site's own workloads, as described, and so are the front "
        "doors that lead to them",
    ),
    "give-up": Verb(
        subject="`run`",
        args=GiveUp,
        result=GivenUp,
        refusals=(),
        does="they are at home elsewhere: off, fenced, and not in the inventory, and neither are these front "
        "doors. Their disks are kept "
        "until their group is copied back, because only the differences are copied then",
    ),
    "let-points-go": Verb(
        subject="the group",
        args=OfGroup,
        result=Nothing,
        refusals=(),
        does="of a promoted group, only what tells the two sides apart is kept",
    ),
    "changes-since": Verb(
        subject="the group",
        args=OfGroup,
        result=ChangedSince,
        refusals=("not-promoted",),
        does="say what its copies changed since they were promoted",
    ),
    "reverse-copying": Verb(
        subject="the group",
        args=ReverseCopying,
        result=Reversed,
        refusals=("bad-definition", "key-missing", "no-such-group"),
        does="copy only what differs, and go on where it was after an interruption; done when both sides "
        "are equal",
    ),
}
"""Every verb of this version."""
