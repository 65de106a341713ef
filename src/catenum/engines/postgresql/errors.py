"""PostgreSQL's errors translated once, at the edge: SQLSTATE to Catenum's kinds, connection
failures to sentences.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import replace
from typing import Literal

import psycopg
from psycopg.conninfo import make_conninfo
from psycopg.pq import DiagnosticField as Field
from psycopg.pq.abc import PGresult

from catenum.core.errors import InputError, TargetError
from catenum.core.record.recording import ServerError
from catenum.core.servers import rules_of

KIND_OF = rules_of("postgresql").errors.kind_of


def readable(conninfo: str, shown_url: str, **more: str | int) -> str:
    """A URL or a connection string with more parameters. Raises InputError where libpq cannot read
    it: its own words may quote a password.
    """
    try:
        return make_conninfo(conninfo, **more)
    except psycopg.Error as error:
        unknown = re.search(
            r'invalid (?:URI query parameter|connection option)[:]? "(\w+)"', str(error)
        )
        what = f"it has no parameter {unknown[1]}" if unknown else "it cannot be read"
        advice = 'See the documentation of PostgreSQL, 34.1.1 "Connection Strings".'
        raise InputError(
            f"the URL of the target is not valid: {shown_url}: {what}", advice=advice
        ) from None


def from_result(result: PGresult) -> ServerError:
    """The error that a failed result carries."""
    found = from_fields(lambda field: _text(result.error_field(field)))
    if found.code:
        return found
    own = (
        (result.error_message or b"").decode("utf-8", "replace").strip()
    )  # libpq's own words have no fields
    return replace(found, message=own) if own else found


def from_exception(error: psycopg.Error) -> ServerError:
    """The error of an exception that psycopg raised."""
    diag = error.diag
    if error.sqlstate is None:
        return lost(str(error))
    return ServerError(
        code=error.sqlstate,
        kind=KIND_OF(error.sqlstate),
        message=diag.message_primary or str(error),
        detail=diag.message_detail,
        hint=diag.message_hint,
        context=diag.context,
        check=_check_of(error.sqlstate, diag.source_file),
        position=int(diag.statement_position) if diag.statement_position else None,
    )


def from_fields(get: Callable[[Field], str | None]) -> ServerError:
    """The error made of libpq's diagnostic fields."""
    code = get(Field.SQLSTATE) or ""
    position = get(Field.STATEMENT_POSITION)
    return ServerError(
        code=code,
        kind=KIND_OF(code),
        message=get(Field.MESSAGE_PRIMARY) or "the server gave no message",
        detail=get(Field.MESSAGE_DETAIL),
        hint=get(Field.MESSAGE_HINT),
        context=get(Field.CONTEXT),
        check=_check_of(code, get(Field.SOURCE_FILE)),
        position=int(position) if position else None,
    )


def _check_of(code: str, source: str | None) -> Literal["row version", "dependency"] | None:
    """By which check a transaction was refused: messages may be in any language, the server's
    source files are not.
    """
    if KIND_OF(code) != "refused":
        return None
    return "dependency" if source == "predicate.c" else "row version"


def lost(message: str) -> ServerError:
    """The connection is gone."""
    return ServerError(code="", kind="lost", message=" ".join(message.split()) or "connection lost")


def _text(value: bytes | None) -> str | None:
    return value.decode("utf-8", "replace") if value is not None else None


_ADVICE = (
    (
        "password authentication failed|no password supplied",
        "Check user and password (PGPASSWORD, ~/.pgpass).",
    ),
    (
        "refused|No such file or directory|could not translate|timeout expired",
        "Is the server running there?",
    ),
    ('database ".*" does not exist', "Name an existing database at the end of the URL."),
    ('role ".*" does not exist', "Name an existing login in the URL."),
    ("no pg_hba.conf entry", "The server's pg_hba.conf does not let this login in from here."),
    (
        "too many clients|connection slots",
        "The server has no connection free; end some, or raise max_connections.",
    ),
)


def unreachable(error: psycopg.Error, shown_url: str) -> TargetError:
    """A failed connection as a sentence, with what to do. The URL given must be free of secrets."""
    lines = [line.strip() for line in str(error).splitlines() if line.strip()]
    reasons = [line for line in lines if not line.endswith("?")]  # libpq's own hints are questions
    text = re.sub(r"^.*failed: ", "", reasons[-1]) if reasons else "no reason given"
    whole = " ".join(lines)
    advice = next((advice for pattern, advice in _ADVICE if re.search(pattern, whole)), None)
    return TargetError(f"cannot connect to {shown_url}: {text}", advice=advice)


def went_away(error: psycopg.Error, shown_url: str) -> TargetError:
    """A connection that was there is no more."""
    reason = " ".join(str(error).split()).removeprefix("consuming input failed: ")
    return TargetError(
        f"the server went away: {shown_url}: {reason}",
        advice="Check the server's own log. The next run drops scratch space that was left.",
    )


def vanished(message: str) -> bool:
    """Whether the catalogue named something that somebody has dropped meanwhile."""
    return message.startswith(("could not open relation with OID", "cache lookup failed for"))
