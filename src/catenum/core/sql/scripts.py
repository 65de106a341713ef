"""Scripts of several statements, cut where one ends: what drivers that take one at a time need."""

from __future__ import annotations

import re
from dataclasses import dataclass

from catenum.core.sql.parser import sqlglot


@dataclass(frozen=True, slots=True)
class Piece:
    """One statement of a script, with the offset of its first character.

    ``shape``: the statement with each number as ``0`` and each string as an empty one, lists of
    them (after IN and VALUES) cut to one. It names the same tables and begins with the same words,
    so what those tell need be found out once for a thousand statements that are alike. Strings with
    a dot are left, since one may be a table's name.
    """

    offset: int
    text: str
    shape: str


#: Stand-ins for values while a shape is made: characters for private use, which no server's grammar
#: knows.
_NUMBER, _STRING = "\ue000", "\ue001"
_VALUE = f"[{_NUMBER}{_STRING}]"
_LIST = rf"{_VALUE}(?:\s*,\s*{_VALUE})*"
_IN = re.compile(rf"(\b(?:in|values)\s*\(\s*{_VALUE})(?:\s*,\s*{_VALUE})+(?=\s*\))", re.IGNORECASE)
_ROWS = re.compile(rf"(\(\s*{_LIST}\s*\))(?:\s*,\s*\(\s*{_LIST}\s*\))+")


def split_script(script: str, dialect: str) -> list[tuple[int, str]]:
    """The statements of a script, each with the offset of its first character. Semicolons in
    strings do not count.
    """
    return [(piece.offset, piece.text) for piece in pieces_of(script, dialect)]


def pieces_of(script: str, dialect: str) -> list[Piece]:
    """The statements of a script with their shapes; all of it as one where it cannot be cut into
    tokens.
    """
    found = _plain_pieces(script)
    return tokenized_pieces(script, dialect) if found is None else found


#: A string whose end every dialect sees at the same place: nothing escaped in it, and no prefix.
_QUOTED = re.compile(r"(?<![\w&'])'((?:[^'\\]|'')*)'(?!')")
_DOTTED, _QUOTE = "\ue002", "\ue003"
#: All that a plain script consists of, its strings set aside: no comments, no quoted names, no
#: dollars, no operators that a dialect might read as something else.
_PLAIN = re.compile(
    r"(?:[A-Za-z_]\w*+(?:\.(?:[A-Za-z_]\w*+|\*))*+(?!\.)|\d++(?:\.\d++)?+(?![\w.])|[\s(),;=+*<>]|-(?!-)"
    rf"|{_QUOTE}[{_STRING}{_DOTTED}]*{_QUOTE})*+"
)
_PLAIN_NUMBER = re.compile(r"(?<![\w.])\d+(?:\.\d+)?")
_ASIDE = re.compile(rf"{_QUOTE}([{_STRING}{_DOTTED}]*){_QUOTE}")


def _plain_pieces(script: str) -> list[Piece] | None:
    """What ``tokenized_pieces`` gives, found without tokens: that takes a tenth of the time, which
    counts where a script has tens of thousands of statements. None where the text is not plain
    enough to be certain of it.
    """
    if not script.isascii():
        return None
    # Of the same length, so that offsets stay.
    aside = _QUOTED.sub(
        lambda found: (
            f"{_QUOTE}{(_DOTTED if '.' in found[1] else _STRING) * len(found[1])}{_QUOTE}"
        ),
        script,
    )
    if _PLAIN.fullmatch(aside) is None or _BODY.search(aside) or _OPAQUE.search(aside):
        return None
    found: list[Piece] = []
    offset = 0
    for part in aside.split(";"):
        begin = offset + len(part) - len(part.lstrip())
        text = script[begin : offset + len(part)].rstrip()
        if text:
            shape = _PLAIN_NUMBER.sub(_NUMBER, part.strip())
            if _QUOTE in shape:
                shape = _with_strings(shape, part.strip(), text)
            found.append(Piece(begin, text, _shape([shape])))
        offset += len(part) + 1
    return found


def _with_strings(shape: str, aside: str, text: str) -> str:
    """The shape with a stand-in for each string that was set aside, dotted ones as they are
    written.
    """
    written = [text[found.start() : found.end()] for found in _ASIDE.finditer(aside)]
    kept = iter(written)

    def back(found: re.Match[str]) -> str:
        one = next(kept)
        return one if "." in one else _STRING

    return _ASIDE.sub(back, shape)


def tokenized_pieces(script: str, dialect: str) -> list[Piece]:
    """``pieces_of`` for every script, by the parser's tokens."""
    try:
        tokens = sqlglot.tokenize(script, dialect=dialect)
    except sqlglot.errors.SqlglotError:
        return [Piece(0, script, script)] if script.strip() else []
    found: list[Piece] = []
    parts: list[str] = []
    start: int | None = None
    copied = depth = 0
    plain = _NUMBER not in script and _STRING not in script
    last = ""

    def close(end: int) -> None:
        if start is not None:
            text = script[start:end].rstrip()
            found.append(
                Piece(start, text, _shape([*parts, script[copied:end]]) if plain else text)
            )

    for place, token in enumerate(tokens):
        kind = token.token_type.name
        if kind == "SEMICOLON" and depth == 0:
            close(token.start)
            start = None
            continue
        if start is None:
            start = copied = token.start
            parts = []
            body = _BODY.match(script, start) is not None
        if body:
            depth = max(
                0,
                depth
                + _nesting(token.text, tokens[place + 1].text if place + 1 < len(tokens) else ""),
            )
        # what follows a word that the parser does not know is one token, with all its text
        if kind == "NUMBER" or (kind == "STRING" and last != "COMMAND" and "." not in token.text):
            parts += (script[copied : token.start], _NUMBER if kind == "NUMBER" else _STRING)
            copied = token.end + 1
        last = kind
    close(len(script))
    return found


def _shape(parts: list[str]) -> str:
    shape = _IN.sub(r"\1", _ROWS.sub(r"\1", "".join(parts)))
    return shape.replace(_NUMBER, "0").replace(_STRING, "''").rstrip()


#: Words after which the parser takes all that follows for one token, values and all.
_OPAQUE = re.compile(
    r"(?:^|;)\s*(?!(?:select|insert|update|delete|create\s+table)\b)\S", re.IGNORECASE
)
#: Statements that may hold others between BEGIN and END.
_BODY = re.compile(
    r"create\s+(or\s+replace\s+)?(\S+\s+)?(procedure|function|trigger|event)\b", re.IGNORECASE
)


def _nesting(word: str, following: str) -> int:
    """How a word of a stored program's body changes the depth of its blocks."""
    if word.upper() in ("BEGIN", "CASE"):
        return 1
    if word.upper() == "END" and following.upper() not in ("IF", "LOOP", "WHILE", "REPEAT", "FOR"):
        return -1
    return 0
