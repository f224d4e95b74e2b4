"""YAML from people: what a few lines of it must not make of this process."""

from __future__ import annotations

import yaml

from maestoso.core.errors import BadValue

DEEPEST = 30


def refuse_what_grows(text: str) -> None:
    """Aliases unfold a few lines to gigabytes, and thousands of brackets take minutes: nobody needs either.

    Raises BadValue, whose field is the line, and yaml.YAMLError where it is none.
    """
    depth = 0
    for event in yaml.parse(text, Loader=yaml.SafeLoader):
        line = str(event.start_mark.line + 1) if event.start_mark else ""
        if isinstance(event, yaml.AliasEvent):
            raise BadValue("Aliases are not read.", "Write the thing out where it is needed.", field=line)
        depth += isinstance(event, yaml.CollectionStartEvent) - isinstance(event, yaml.CollectionEndEvent)
        if depth > DEEPEST:
            raise BadValue(f"It is nested more than {DEEPEST} deep.", "Correct the brackets.", field=line)
