"""Bounds on a scenario's YAML, seen before anything recurses over it: its depth, how much it holds,
and no tags.
"""

from __future__ import annotations

import re

import yaml

from catenum.core.errors import InputError, Place

#: The parser in C, where it was built: a scenario of a megabyte is read in a fraction of a second.
LOADER: type = getattr(yaml, "CBaseLoader", yaml.BaseLoader)
MAX_VALUES = 50_000
MAX_DEPTH = 20
TOO_DEEP = f"nested more than {MAX_DEPTH} levels deep"
TOO_MANY = f"more than {MAX_VALUES:,} values or too deep"


def is_flat(text: str) -> bool:
    """Whether a text has no tag and cannot be nested too deep, whatever it means: by signs and
    indentation alone.

    Each level takes a column more, or a dash, or a bracket. What has too many values is met when
    they are built.
    """
    if _TAG.search(text):
        return False
    deepest = max(map(len, set(_INDENTS.findall(text))), default=0)
    opened = inside = 0
    if "[" in text or "{" in text:
        for line in text.splitlines():
            opens = line.count("[") + line.count("{")
            inside = max(inside, opens)
            opened += max(0, opens - line.count("]") - line.count("}"))
    return deepest + inside + opened < MAX_DEPTH


_INDENTS = re.compile(r"^(?:[ ]|- |\? )+", re.MULTILINE)
#: What may be a tag; ``!=`` is SQL, and met again as a node's tag if it is one.
_TAG = re.compile(r"(?:^|[\s\[{,])!(?!=)", re.MULTILINE)
OWN_TAGS = "tag:yaml.org,2002:"


def check_events(text: str, file: str) -> None:
    """Refuse deep nesting and endless lists before anything recurses over them (the event parser
    itself is flat), and explicit tags: what a value is follows from how it is written.
    """
    depth = values = 0
    for event in yaml.parse(text, Loader=LOADER):
        if isinstance(event, yaml.CollectionEndEvent):
            depth -= 1
        if not isinstance(event, yaml.NodeEvent):
            continue
        depth += isinstance(event, yaml.CollectionStartEvent)
        values += 1
        tag = getattr(event, "tag", None)
        if tag is None and depth <= MAX_DEPTH and values <= 2 * MAX_VALUES:  # each may have a key
            continue
        mark = event.start_mark
        place = Place(file, mark.line + 1, mark.column + 1) if mark else Place(file)
        if tag is not None:
            raise tagged(str(tag), place)
        raise InputError(TOO_DEEP if depth > MAX_DEPTH else TOO_MANY, place=place)


def tagged(tag: str, place: Place) -> InputError:
    shown = tag.replace(OWN_TAGS, "!!")
    text = f"the tag {shown!r}: a scenario has no tags"
    return InputError(text, place=place, advice="Leave it out; write a text in quotes.")
