"""Writes the skeleton of an agent: every method that a platform has, with what it must do."""

from __future__ import annotations

import inspect
import sys
import textwrap
from pathlib import Path

from .platform import Platform, method_of
from .protocol import DOCUMENT, VERBS, shape_of

TOP = '''"""A site agent. Fill in every TODO, and take the methods away that the platform does not have:
a verb without a method is not offered.

Serve it with:  python {file} --state agent.sqlite --port 8700 --token-file token
Test it with:   python -m {kit} check http://127.0.0.1:8700 --group CODE
"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from {kit} import Failure, NotKnown, Operation, Platform, serve


class Site(Platform):
    """TODO: which platform this is."""

    site = "SITE"  # TODO: its code in Maestoso
    name = "my site agent 1"  # TODO
'''
BOTTOM = """

if __name__ == "__main__":
    parser = argparse.ArgumentParser()
    parser.add_argument("--state", type=Path, required=True)
    parser.add_argument("--port", type=int, required=True)
    parser.add_argument("--token-file", type=Path, required=True)
    given = parser.parse_args()
    serve(Site(), state=given.state, port=given.port, token_file=given.token_file)
"""
INSIDE = " " * 8
OF_A_SITE = (
    "inventory", "groups", "links", "points", "lags", "change_rates", "running", "off", "answering",
    "remains", "refuses_landing", "care",
)  # fmt: skip
"""What a site is asked outside of operations."""


def write(file: Path) -> int:
    """Write the skeleton into a file that is not there yet; the exit status."""
    try:
        with file.open("x", encoding="utf-8") as out:
            out.write(skeleton(file.name))
    except FileExistsError:
        print(f"{file} is there already, and was left as it is. Name another file.", file=sys.stderr)
        return 1
    except OSError as error:
        print(f"{file} cannot be written: {error.strerror}.", file=sys.stderr)
        return 1
    print(
        f"Wrote {file}. Its TODOs say what each method must do; folders.py of the kit is a filled-in example."
    )
    return 0


def skeleton(name: str) -> str:
    """The text of a skeleton that is to be called ``name``."""
    kit = __name__.rpartition(".")[0]
    parts = [TOP.format(file=name, kit=kit)]
    parts += [_of_site(method) for method in OF_A_SITE]
    # What the kit does for every site need not be written.
    # What is for labs is not offered by whoever fills this in for real machines.
    wanted = (verb for verb, one in VERBS.items() if not one.get("for_labs"))
    parts += [_of_verb(verb) for verb in wanted if not hasattr(Platform, method_of(verb))]
    return "\n".join(parts) + BOTTOM


def _of_site(method: str) -> str:
    known = getattr(Platform, method)
    says = _wrapped((inspect.getdoc(known) or "").split("\n\n")[0])
    head = f"    def {method}{inspect.signature(known)}:".replace("'", "").replace("Mapping[", "dict[")
    head = head.replace("Iterable[", "list[")
    return f'{head}\n        """{says}"""\n        raise NotImplementedError  # TODO\n'


def _wrapped(text: str) -> str:
    """A paragraph as it stands within a method."""
    return textwrap.fill(" ".join(text.split()), 96, subsequent_indent=INSIDE, break_long_words=False)


def _of_verb(verb: str) -> str:
    about, shapes = VERBS[verb], DOCUMENT["components"]["schemas"]
    args, result = (shapes[shape_of(verb, part)] for part in ("args", "result"))
    says = [f"{about['description'][0].upper()}{about['description'][1:]}."]
    if args["properties"]:
        says += [f"op.args: {', '.join(args['properties'])}. {args['description']}"]
    if result["properties"]:
        says += [f"Returns {', '.join(result['properties'])}. {result['description']}"]
    if about["refusals"]:
        says += [f"Fails with {', '.join(about['refusals'])}."]
    text = f"\n\n{INSIDE}".join(_wrapped(part.replace("`", "")) for part in says)
    returns = "dict[str, Any]" if result["properties"] else "None"
    end = f'"""{text}\n{INSIDE}"""' if len(says) > 1 else f'"""{text}"""'
    return (
        f"    def {method_of(verb)}(self, op: Operation) -> {returns}:\n{INSIDE}{end}\n"
        f"{INSIDE}raise NotImplementedError  # TODO\n"
    )
