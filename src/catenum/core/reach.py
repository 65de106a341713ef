"""Whether a statement reaches beyond the scratch space of a run: to others' tables and sessions, or to the server.

A name with a schema of its own is one way (``Footprint.accesses`` has those); this module knows the statements and
functions that need no such name. It reads the text, since most of them are none that the parser understands, and it
reads inside MariaDB's executable comments. What is done by a stored program's body or by dynamic SQL it cannot know.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from sqlglot import tokenize
from sqlglot.errors import SqlglotError

from catenum.core.scripts import DIALECTS, split_script

_ANY_SERVER = (
    r"(?:create|drop|alter)(?: or replace)? (?:database|schema|role|user|tablespace|server)",
    r"(?:grant|revoke) (?!.* on )",
)
_STATEMENTS = {
    "postgresql": (
        *_ANY_SERVER,
        r"(?:create|drop|alter) (?:group|publication|subscription|event trigger|foreign data wrapper)",
        r"alter (?:system|default privileges)",
        r"(?:reassign|drop) owned",
        r"(?:vacuum|analyze|cluster|checkpoint)(?: \(.*\))?(?: full| freeze| verbose| analyze)*$",
        r"reindex (?:\(.*\) )?(?:database|system|schema)",
        r"set (?:session |local )?(?:search_path|role|session authorization|schema)",
        r"reset (?:all|search_path|role|session authorization)",
        r"discard all",
        r"copy .* program",
    ),
    "mariadb": (
        *_ANY_SERVER,
        r"(?:create|drop|alter)(?: or replace)? event",
        r"(?:use|flush|kill|shutdown|reset|purge|install|uninstall|rename user)\b",
        r"(?:change (?:master|replication)|(?:start|stop) (?:all )?(?:slave|replica))",
        r"set (?:.* )?(?:global|persist|@@global|@ @ global)",
        r"set (?:password|role|default role)",
        r".* into (?:outfile|dumpfile)",
    ),
}
_FUNCTIONS = {
    "postgresql": (
        r"pg_(?:terminate_backend|cancel_backend|reload_conf|rotate_logfile|promote|switch_wal)\s*\(",
        r"(?:dblink\w*|lo_\w+)\s*\(",
        r"set_config\s*\(\s*'(?:search_path|role|session_authorization)'",
        r"(?:nextval|setval|currval)\s*\(\s*'[^'.]+\.",
    ),
    "mariadb": (r"(?:load_file|sys_exec|sys_eval)\s*\(",),
}
#: Work that would outlive its session, or that turns transactions on and off by itself.
_NO_TRANSACTION_OF_OURS = {
    "postgresql": (r"(?:prepare transaction|commit prepared|rollback prepared)",),
    "mariadb": (r"xa (?:start|begin|end|prepare|commit|rollback|recover)", r"set (?:.* )?autocommit"),
}
#: MariaDB documentation, "SQL statements That Cause an Implicit Commit".
_COMMITS = {
    "postgresql": (),
    "mariadb": (
        r"(?:alter|rename|truncate|analyze|optimize|check|repair|flush|grant|revoke|install|uninstall)\b",
        r"(?:create|drop)(?: or replace)? (?!temporary)",
        r"lock tables?\b",
    ),
}
_COMMENT = re.compile(r"--[^\n]*|/\*.*?\*/", re.DOTALL)
_EXECUTABLE_COMMENT = re.compile(r"/\*M?!\d*(.*?)\*/", re.DOTALL)


def uncovered(sql: str, server: str) -> str:
    """The text with MariaDB's executable comments laid open: the server runs what stands in them."""
    return _EXECUTABLE_COMMENT.sub(r" \1 ", sql) if server == "mariadb" else sql


def reaches_beyond(script: str, server: str) -> Iterator[str]:
    """The words of a script that reach beyond the scratch space, one for each statement that does."""
    for _, sql in split_script(uncovered(script, server), server):
        found = _starts(sql, server, _STATEMENTS) or _calls(sql, server)
        if found:
            yield found


def handles_transactions(sql: str, server: str) -> str | None:
    """The words by which a statement prepares or ends transactions in ways that Catenum cannot see."""
    return _starts(uncovered(sql, server), server, _NO_TRANSACTION_OF_OURS)


def commits_by_itself(sql: str, server: str) -> bool:
    """Whether the server commits before it runs this, whatever the transaction did before."""
    return _starts(uncovered(sql, server), server, _COMMITS) is not None


def _starts(sql: str, server: str, patterns: dict[str, tuple[str, ...]]) -> str | None:
    words = _words(sql, server)
    for pattern in patterns[server]:
        match = re.match(rf"{pattern}", words)
        if match:
            return match[0].strip() if len(match[0]) < 40 else match[0][:39] + "…"
    return None


def _calls(sql: str, server: str) -> str | None:
    for pattern in _FUNCTIONS[server]:
        match = re.search(rf"\b{pattern}", sql, re.IGNORECASE)
        if match:
            return match[0].rstrip("( '.")
    return None


def _words(sql: str, server: str) -> str:
    """The statement in small letters, a blank between words, without comments and the contents of strings."""
    try:
        tokens = tokenize(sql, dialect=DIALECTS.get(server))
    except SqlglotError:
        return " ".join(sql.split()).lower()
    pieces, last = [], ""
    for token in tokens:
        kind = token.token_type.name
        # what follows a word that the parser does not know is one token, with all its text
        pieces.append("''" if kind == "STRING" and last != "COMMAND" else token.text)
        last = kind
    return " ".join(_COMMENT.sub(" ", " ".join(pieces)).split()).lower()
