"""The filter language: ``site:QUA tag:app=booking nic:10.20.0.0/16 -protected``.

Terms beside each other must all hold; ``OR`` between terms, ``-`` or ``NOT`` before one, parentheses and
quotes work as people expect. ``key=value`` alone is a tag, so a tag rule of a group is a filter too. A word
alone is one of the flags, or is looked for in names.
"""

from __future__ import annotations

import difflib
import operator
import re
from collections.abc import Callable
from dataclasses import dataclass
from fnmatch import fnmatchcase
from ipaddress import ip_network

from maestoso.core.errors import BadValue
from maestoso.core.estate.row import Row

Test = Callable[[Row], bool]
LONGEST = 500
DEEPEST = 20

TEXTS: dict[str, Callable[[Row], tuple[str, ...]]] = {
    "name": lambda row: (row.name,),
    "site": lambda row: (row.site,),
    "group": lambda row: (row.group,),
    "os": lambda row: (row.os_family,),
    "owner": lambda row: (row.owner,),
    "criticality": lambda row: (row.criticality,),
    "network": lambda row: row.networks,
    "pool": lambda row: row.pools,
    "mac": lambda row: row.macs,
    "offers": lambda row: row.offers,
    "uses": lambda row: row.uses,
}
NUMBERS: dict[str, Callable[[Row], float]] = {
    "cores": lambda row: row.cores,
    "memory": lambda row: row.memory_mib / 1024,
    "size": lambda row: row.size_gib,
    "nics": lambda row: len(row.macs),
}
FLAGS: dict[str, Test] = {
    "protected": lambda row: bool(row.group),
    "agent": lambda row: row.guest_agent,
    "key": lambda row: row.needs_key,
    "dhcp": lambda row: row.dhcp,
    "leftout": lambda row: row.left_out,
}
COMPARE: dict[str, Callable[[float, float], bool]] = {
    ">=": operator.ge, "<=": operator.le, ">": operator.gt, "<": operator.lt, "=": operator.eq,
}  # fmt: skip
KEYS = (*TEXTS, "tag", "nic", *NUMBERS)
_TOKEN = re.compile(r'\s*(?:(\()|(\))|(-)(?=[^\s])|((?:[^\s()"]|"[^"]*")+)|("))')


class BadFilter(BadValue):
    """A filter that cannot be read. ``at`` and ``length`` say where; ``suggestion`` is a filter that can."""

    code = "bad-filter"

    def __init__(self, sentence: str, remedy: str, at: int, length: int, suggestion: str = "") -> None:
        super().__init__(sentence, remedy, field="filter")
        self.more = {"at": at, "length": length, **({"suggestion": suggestion} if suggestion else {})}


@dataclass(frozen=True, slots=True)
class _Token:
    kind: str  # ( ) - word
    text: str
    at: int


def compile_filter(text: str) -> Test:
    """The test that a filter means; an empty filter holds for all. Raises BadFilter."""
    if len(text) > LONGEST:
        raise BadFilter(
            f"The filter has {len(text)} characters.",
            f"Give at most {LONGEST}.",
            LONGEST,
            len(text) - LONGEST,
        )
    tokens = _tokens(text)
    if not tokens:
        return lambda row: True
    parser = _Parser(text, tokens)
    test = parser.either(0)
    if parser.here is not None:
        raise parser.error_at("This closing parenthesis has no partner.", "Remove it.", parser.here)
    return test


def _tokens(text: str) -> list[_Token]:
    found, at = [], 0
    while at < len(text.rstrip()):
        match = _TOKEN.match(text, at)
        if match is None or match.lastindex is None or match.group(5):
            where = text.index('"', at)
            raise BadFilter("This quote is not closed.", 'Put a " at its end.', where, 1, f'{text}"')
        kind = ("(", ")", "-", "word")[match.lastindex - 1]
        found.append(_Token(kind, match.group(match.lastindex), match.start(match.lastindex)))
        at = match.end()
    return found


class _Parser:
    """Recursive descent: either = every (OR every)*, every = one+, one = [-] (term | parentheses)."""

    def __init__(self, text: str, tokens: list[_Token]) -> None:
        self.text, self.tokens, self.next = text, tokens, 0

    @property
    def here(self) -> _Token | None:
        return self.tokens[self.next] if self.next < len(self.tokens) else None

    def error_at(self, sentence: str, remedy: str, token: _Token | None, better: str = "") -> BadFilter:
        if token is None:
            return BadFilter(sentence, remedy, len(self.text), 0)
        suggestion = (
            self.text[: token.at] + better + self.text[token.at + len(token.text) :] if better else ""
        )
        return BadFilter(sentence, remedy, token.at, len(token.text), suggestion)

    def either(self, depth: int) -> Test:
        tests = [self.every(depth)]
        while self.here is not None and self.here.text == "OR":
            self.next += 1
            tests.append(self.every(depth))
        return tests[0] if len(tests) == 1 else lambda row: any(test(row) for test in tests)

    def every(self, depth: int) -> Test:
        tests: list[Test] = []
        while self.here is not None and self.here.text not in (")", "OR"):
            if self.here.text == "AND" and tests:
                self.next += 1
                if self.here is None or self.here.text in (")", "OR", "AND"):
                    raise self.error_at("Nothing follows this AND.", "Add a term, or remove it.", self.here)
            tests.append(self.one(depth))
        if not tests:
            raise self.error_at("A term is missing here.", "Add one, such as site:QUA.", self.here)
        return tests[0] if len(tests) == 1 else lambda row: all(test(row) for test in tests)

    def one(self, depth: int) -> Test:
        token = self.here
        if depth > DEEPEST:
            raise self.error_at("The parentheses are nested too deep.", "Use fewer.", token)
        self.next += 1
        if token is not None and token.text in ("-", "NOT"):
            if self.here is None:
                raise self.error_at("Nothing follows this.", "Add a term after it.", token)
            inner = self.one(depth + 1)
            return lambda row: not inner(row)
        if token is not None and token.kind == "(":
            inner = self.either(depth + 1)
            if self.here is None:
                raise self.error_at("This parenthesis is not closed.", "Put a ) at its end.", token)
            self.next += 1
            return inner
        if token is None:
            raise self.error_at("A term is missing here.", "Add one, such as site:QUA.", token)
        return self.term(token)

    def term(self, token: _Token) -> Test:
        match = re.fullmatch(r"([A-Za-z_.-]+)(:|>=|<=|>|<|=)(.*)", token.text, re.S)
        if match is None:
            return self.word(token)
        key, sign, value = match.group(1).lower(), match.group(2), match.group(3).replace('"', "")
        if sign == ":" and key not in KEYS:
            close = difflib.get_close_matches(key, KEYS, n=1)
            better = f"{close[0]}:{match.group(3)}" if close else ""
            remedy = f"Did you mean {close[0]}:?" if close else f"Use one of: {', '.join(KEYS)}."
            raise self.error_at(f"There is nothing called {key!r} to search by.", remedy, token, better)
        if not value and key in KEYS:
            raise self.error_at(
                f"{key} has no value.", f"Write it behind the {sign}, without a space.", token
            )
        if key in NUMBERS:
            return self.number(token, key, "=" if sign == ":" else sign, value)
        if sign == ":":
            return self.keyed(token, key, value)
        if sign == "=":
            wanted = match.group(1)
            return lambda row: _like(row.tags.get(wanted, ""), value)
        raise self.error_at(
            f"{key} is no number, so it cannot be compared by {sign}.",
            f"Numbers are: {', '.join(NUMBERS)}.",
            token,
        )

    def keyed(self, token: _Token, key: str, value: str) -> Test:
        if key == "tag":
            name, has_value, wanted = value.partition("=")
            if not has_value:
                return lambda row: name in row.tags
            return lambda row: name in row.tags and _like(row.tags[name], wanted)
        if key == "nic":
            try:
                prefix = ip_network(value, strict=False)
            except ValueError as error:
                raise self.error_at(
                    f"{value!r} is neither an address nor a prefix.",
                    "Give one such as nic:10.20.0.0/16.",
                    token,
                ) from error
            return lambda row: any(host in prefix for host in row.hosts())
        read = TEXTS[key]
        return lambda row: any(_like(text, value) for text in read(row))

    def number(self, token: _Token, key: str, sign: str, value: str) -> Test:
        try:
            wanted = float(value)
        except ValueError as error:
            raise self.error_at(f"{value!r} is not a number.", f"Give one such as {key}>8.", token) from error
        read, compare = NUMBERS[key], COMPARE[sign]
        return lambda row: compare(read(row), wanted)

    def word(self, token: _Token) -> Test:
        text = token.text.replace('"', "")
        if text.lower() in FLAGS and '"' not in token.text:
            return FLAGS[text.lower()]
        wanted = text.lower()
        return lambda row: wanted in row.name.lower()


def _like(text: str, wanted: str) -> bool:
    """Case does not matter, ``*`` stands for any text."""
    return fnmatchcase(text.lower(), wanted.lower()) if "*" in wanted else text.lower() == wanted.lower()
