"""Which values are the same, by what is certain of each two."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

Written = tuple[bool, str]
#: Values that mean the same at any moment: digits, signs, hexadecimal letters, T and Z of times. No
#: word such as "now".
_STEADY = re.compile(r"[0-9A-Fa-f:.,+\-\s TZ\[\]()/]*")


def steady(written: Sequence[Written]) -> list[Written]:
    """Those that do not depend on when they are read."""
    return [one for one in written if _STEADY.fullmatch(one[1])]


def classes_of(written: Sequence[Written], apart: Iterable[tuple[int, int]]) -> dict[Written, int]:
    """Classes of values: two are in different ones only where all of the one are certainly apart
    from all of the other. ``apart``: pairs, by their place in ``written``.
    """
    known = {frozenset(pair) for pair in apart}
    number = list(range(len(written)))
    for one in range(len(written)):
        for other in range(one):
            if frozenset((one, other)) not in known and number[one] != number[other]:
                old, new = number[one], number[other]
                number = [new if mine == old else mine for mine in number]
    return dict(zip(written, number, strict=True))
