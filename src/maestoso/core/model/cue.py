"""Cues: everything in a plan that is not a workload coming up."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

from maestoso.core.model.names import RecordType

RunKind = Literal["test", "planned", "disaster"]
RUN_KINDS: tuple[RunKind, ...] = ("test", "planned", "disaster")
OnFailure = Literal["ask", "go-on", "stop"]
CueKind = Literal["hold", "script", "probe", "pause", "notify", "names", "doors"]
CUE_KINDS: tuple[CueKind, ...] = ("hold", "script", "probe", "pause", "notify", "names", "doors")


@dataclass(frozen=True, slots=True, kw_only=True)
class Hold:
    """A person must answer before what is behind it may go on.

    ``instruction`` is Markdown. ``who`` are the names of those who may answer, or
    roles (``role:operator``), anybody where it is empty; ``answers`` different people of them must.
    After ``limit_s`` seconds by the clock on the wall (0: it waits for ever) ``then`` happens by itself:
    the run goes on, is held as a whole, or is aborted. Where ``not_right`` says what can be done then, they
    may also answer that it is not right: it goes on waiting, and nothing happens by itself any more.
    """

    instruction: str
    who: tuple[str, ...] = ()
    limit_s: int = 0
    then: Literal["go-on", "stop", "abort"] = "stop"
    not_right: str = ""
    answers: int = 1


@dataclass(frozen=True, slots=True, kw_only=True)
class ScriptCall:
    """A script of the library is run.

    ``sha256`` is that of the text which was looked at when the plan was written; ``secrets`` gives
    parameters their values by the name of a secret. ``where`` it runs: by the agent at the target, or inside
    the guest of ``workload``. It succeeds when its exit code is among ``ok_codes``.
    """

    script: str
    sha256: str
    where: Literal["site", "guest"] = "site"
    workload: str = ""
    parameters: dict[str, str] = field(default_factory=dict)
    secrets: dict[str, str] = field(default_factory=dict)
    limit_s: int = 300
    ok_codes: tuple[int, ...] = (0,)


@dataclass(frozen=True, slots=True, kw_only=True)
class Probe:
    """A service must answer within ``limit_s``.

    It is aimed at a ``workload``, wherever that landed, at an ``address`` (an address or a host name), or at
    a front ``door``, from outside, wherever that opened; where a test opens none, at the workload behind it.
    http: ``path`` gives ``status`` and a body that holds ``text``. tls: the certificate is good for at least
    ``days`` more. dns: ``name`` is answered. tcp: the port opens.
    """

    protocol: Literal["tcp", "http", "tls", "dns"] = "tcp"
    workload: str = ""
    address: str = ""
    door: str = ""
    port: int = 443
    path: str = "/"
    status: int = 200
    text: str = ""
    days: int = 14
    name: str = ""
    limit_s: int = 300


@dataclass(frozen=True, slots=True, kw_only=True)
class Pause:
    """Machine seconds in which nothing happens."""

    seconds: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Notify:
    """Everybody who has Maestoso open is told ``text``, and it stands in the log."""

    text: str


@dataclass(frozen=True, slots=True, kw_only=True)
class NameRecord:
    """What a name leads to where the plan comes up; clients may hold that for ``ttl_s``.

    A name of an address leads to the addresses that ``workload`` has there, to that of the front ``door``, or
    to what ``at`` says for the site, by its code; one of another type always to what ``at`` says. Turned
    round, it leads back.
    """

    name: str
    type: RecordType = "A"
    workload: str = ""
    door: str = ""
    at: dict[str, tuple[str, ...]] = field(default_factory=dict)
    ttl_s: int = 60


@dataclass(frozen=True, slots=True, kw_only=True)
class Names:
    """Names are changed at the servers of their zones, and change back when the run is rolled back.

    In a test nothing outside changes: the copies find each other by these names, at the resolver of their own
    networks. All servers of a zone must say the new records within ``limit_s``. With ``wait_out`` it is
    recovered only when clients cannot hold an old answer any more.
    """

    records: tuple[NameRecord, ...]
    limit_s: int = 120
    wait_out: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class Doors:
    """Front doors open at the target, and close at the source before anything there is shut down.

    In a test only those open that have an address for tests.
    """

    doors: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Cue:
    """One cue, before or after what it belongs to (the plan, a wave or a member), in runs of ``kinds``.

    Exactly one of the seven parts is there; it says what kind of cue this is. Cues at one place come one
    after the other, in their order.
    """

    id: str
    title: str
    at: Literal["before", "after"] = "before"
    kinds: tuple[RunKind, ...] = RUN_KINDS
    on_failure: OnFailure = "ask"
    hold: Hold | None = None
    script: ScriptCall | None = None
    probe: Probe | None = None
    pause: Pause | None = None
    notify: Notify | None = None
    names: Names | None = None
    doors: Doors | None = None

    def parts(self) -> tuple[CueKind, ...]:
        """The parts that are there; a sound cue has one."""
        return tuple(kind for kind in CUE_KINDS if getattr(self, kind) is not None)

    @property
    def kind(self) -> CueKind:
        """What kind of cue this is."""
        return self.parts()[0]

    @property
    def step(self) -> str:
        """The id of its step in a run."""
        return f"{self.kind}:{self.id}"
