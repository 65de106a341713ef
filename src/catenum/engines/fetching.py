"""Results of a scenario's statements, as far as they are fetched: a result may be larger than this
machine's memory.
"""

from __future__ import annotations

from hashlib import sha1

from catenum.core.record.recording import ServerError, digest_of_rows

#: Of one result no more rows, and no more text (bytes), are fetched.
MOST_ROWS, MOST_BYTES = 1_000_000, 64_000_000


class Fetched:
    """Rows of one result: the first ones, and of all of them their number and what they amount
    to.
    """

    def __init__(self, keep: int) -> None:
        self.keep, self.count, self.size = keep, 0, 0
        self.rows: list[tuple[str | None, ...]] = []
        self._digests: list[bytes] = []

    def add(self, row: tuple[str | None, ...]) -> bool:
        """Take a row in. Returns False where it was one too many, so that no more are to be
        fetched.
        """
        self.count += 1
        self.size += sum(len(value) for value in row if value is not None)
        if len(self.rows) < self.keep:
            self.rows.append(row)
        self._digests.append(sha1(repr(row).encode(), usedforsecurity=False).digest())
        return self.count <= MOST_ROWS and self.size <= MOST_BYTES

    @property
    def cut(self) -> bool:
        """Whether not all rows are kept."""
        return self.count > len(self.rows)

    @property
    def digest(self) -> str | None:
        """What all rows amount to, in any order, where not all are kept."""
        return digest_of_rows(self._digests) if self.cut else None


def too_large() -> ServerError:
    """That a result was not fetched whole."""
    bound = f"{MOST_ROWS:,} rows or {MOST_BYTES // 1_000_000} MB"
    message = (
        f"the result has more than {bound}, so it was not fetched whole, and the statement was"
        " cancelled"
    )
    return ServerError(code="", kind="limit", message=message)
