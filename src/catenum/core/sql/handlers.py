"""What a stored routine catches: errors that its client then never sees, deadlocks among them.

InnoDB has undone the whole transaction when a handler catches error 1213, and what comes behind
runs in another (MySQL manual, "InnoDB Error Handling"); an ``exception`` block of PL/pgSQL undoes
its own block (PostgreSQL documentation, 43.6.8 "Trapping Errors").
"""

from __future__ import annotations

import re

_COMMENT = re.compile(r"--[^\n]*|#[^\n]*|/\*.*?\*/", re.DOTALL)
#: DECLARE … HANDLER FOR conditions, up to what it does.
_HANDLER = re.compile(
    r"\bhandler\s+for\s+((?:sqlexception|sqlwarning|not\s+found|sqlstate\s+(?:value\s+)?'\w+'|\d+|\w+)"
    r"(?:\s*,\s*(?:sqlexception|sqlwarning|not\s+found|sqlstate\s+(?:value\s+)?'\w+'|\d+|\w+))*)",
    re.IGNORECASE,
)
_HARMLESS = re.compile(
    r"^(?:not\s+found|sqlwarning|1329|sqlstate\s+(?:value\s+)?'0[12]\w*')$", re.IGNORECASE
)
_EXCEPTION = re.compile(r"\bexception\s+when\b(.*?)\bthen\b", re.IGNORECASE | re.DOTALL)
_WHEN = re.compile(r"\bwhen\b(.*?)\bthen\b", re.IGNORECASE | re.DOTALL)
#: Conditions of PL/pgSQL that name an error which a lock can bring, or any (PostgreSQL
#: documentation, appendix A).
_OF_LOCKS = re.compile(
    r"\b(?:others|deadlock_detected|serialization_failure|lock_not_available|transaction_rollback"
    r"|sqlstate\s+'(?:40\w{3}|55P03)')",
    re.IGNORECASE,
)

#: Conditions that a deadlock or a refusal meets, and no timeout.
_NO_TIMEOUT = re.compile(
    r"^(?:1213|deadlock_detected|serialization_failure|transaction_rollback"
    r"|sqlstate\s+(?:value\s+)?'40\w{3}')$",
    re.IGNORECASE,
)


def may_meet_timeout(condition: str) -> bool:
    """Whether a condition that is caught may be met by a lock timeout."""
    return not _NO_TIMEOUT.match(condition)


def caught(body: str) -> tuple[str, ...]:
    """The conditions that a routine's body catches and that a deadlock, a timeout or a refusal may
    meet.
    """
    text = _COMMENT.sub(" ", body)
    found = []
    for match in _HANDLER.finditer(text):
        conditions = [" ".join(one.split()) for one in match[1].split(",")]
        found += [one for one in conditions if not _HARMLESS.match(one)]
    for match in _EXCEPTION.finditer(text):
        after = text[match.start() :]
        for when in _WHEN.finditer(after):
            found += [
                " ".join(one.split())
                for one in re.split(r"\bor\b", when[1])
                if _OF_LOCKS.search(one)
            ]
    return tuple(dict.fromkeys(found))
