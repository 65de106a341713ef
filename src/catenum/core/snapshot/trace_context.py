"""Trace context within a statement: the ``traceparent`` that a client library writes into a
comment, so that a wait leads back to the request that it belongs to.
"""

from __future__ import annotations

import re

#: W3C Trace Context, "traceparent header field values": version, trace id, parent id, flags.
_TRACEPARENT = re.compile(
    r"traceparent\s*[=:]\s*['\"]?([0-9a-f]{2}-[0-9a-f]{32}-[0-9a-f]{16}-[0-9a-f]{2})", re.IGNORECASE
)


def traceparent_in(text: str | None) -> str | None:
    """The value in a statement's text, or what a watch has made of it; None where there is none."""
    found = _TRACEPARENT.search(text) if text else None
    return found[1].lower() if found is not None else None
