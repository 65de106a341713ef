"""How a server reads the signs of a statement: what its rules tell for those who look at text
without a parser.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

#: Parts of the patterns of which a server's own are made.
NUMBER = (
    r"(?<![\w$])(?:0[xXbBoO][0-9a-fA-F_]+|(?:\d[\d_]*(?:\.[\d_]*)?|\.\d[\d_]*)(?:[eE][+-]?\d+)?)"
)
#: A letter, an underscore or any character beyond ASCII, then digits and dollar signs as well. By
#: what it is not: a class of a million characters takes 20 ms to compile.
WORD = r"[^\x00-@\[-\^`{-\x7f][^\x00-#%-/:-@\[-\^`{-\x7f]*"

#: The same without dollar signs, as between those that quote a string.
TAG = r"[^\x00-@\[-\^`{-\x7f][^\x00-/:-@\[-\^`{-\x7f]*"


@dataclass(frozen=True, slots=True)
class TokenPatterns:
    """Two patterns of one server.

    ``pieces``: a piece of a text that means something by itself, by its group: ``comment``,
    ``dollar``, ``string``, ``name``, ``value`` or ``word``; all else stands for itself, sign by
    sign. ``opaque``: text in which a colon means nothing: strings, comments, quoted names.
    """

    pieces: re.Pattern[str]
    opaque: re.Pattern[str]
