"""The last layer before anything is written about a fault: no password goes out, whatever an error
quotes.
"""

from __future__ import annotations

import os
import re
from collections.abc import Iterable
from urllib.parse import unquote

_IN_URL = re.compile(r"([A-Za-z][\w+.-]*://[^\s:/@]*):([^\s/]*)@")
_PARAMETER = re.compile(r"(password|sslpassword|passwd)=([^\s&'\"]+)", re.IGNORECASE)
#: Variables that clients take passwords from, and a target that may hold one.
_VARIABLES = ("PGPASSWORD", "MYSQL_PWD", "CATENUM_TARGET")
_LEAST = 3  # letters: what is shorter stands in any text


def known_secrets(words: Iterable[str]) -> list[str]:
    """The passwords in a command's words and in the environment, the longest first."""
    found = set()
    for text in [*words, *(os.environ.get(name, "") for name in _VARIABLES)]:
        found |= {match[2] for pattern in (_IN_URL, _PARAMETER) for match in pattern.finditer(text)}
    found |= {os.environ.get(name, "") for name in _VARIABLES[:2]}
    found |= {unquote(secret) for secret in found}
    return sorted((secret for secret in found if len(secret) >= _LEAST), key=len, reverse=True)


def without_secrets(text: str, words: Iterable[str]) -> str:
    """A text without the passwords of a command's words and of the environment, and without any in
    a URL.
    """
    for secret in known_secrets(words):
        text = text.replace(secret, "…")
    return _PARAMETER.sub(r"\1=…", _IN_URL.sub(r"\1:…@", text))
