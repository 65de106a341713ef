"""Where a store is: a file, or a PostgreSQL database by its URL."""

from __future__ import annotations

import os
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import urlsplit, urlunsplit

from catenum.core.errors import InputError
from catenum.engines.targets import check_url, without_secrets

if TYPE_CHECKING:
    from catenum.engines.postgresql.database import PostgresqlDatabase

#: A file, or a URL.
StorePlace = Path | str


def default_store() -> Path:
    """Where the store is by default: the user's data folder."""
    base = Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")
    return base / "catenum" / "history.sqlite"


def place_of(word: str | Path | None) -> StorePlace:
    """What ``--store`` names; the default where it names nothing. Raises InputError for a URL of
    another kind of database.
    """
    if word is None:
        return default_store()
    if isinstance(word, Path) or "://" not in word:
        return Path(word)
    from catenum.engines.postgresql.database import SCHEMES  # its driver takes a while to load

    if word.partition("://")[0] not in SCHEMES:
        raise InputError(
            f"a store cannot be at {without_secrets(word)}",
            advice="It is a file, or a PostgreSQL database: postgresql://…",
        )
    check_url(word)
    return word


def without_password(word: str) -> str:
    """What ``--store`` names, as it can be typed again and may be shown."""
    if "://" not in word:
        return word
    parts = urlsplit(word)
    user, at, host = parts.netloc.rpartition("@")
    kept = [one for one in parts.query.split("&") if not one.startswith("password=")]
    return urlunsplit(
        (parts.scheme, user.partition(":")[0] + at + host, parts.path, "&".join(kept), "")
    )


def shared_database(url: str, *, writes: bool) -> PostgresqlDatabase:
    """The database at a URL, which is not asked yet."""
    from catenum.engines.postgresql.database import PostgresqlDatabase

    return PostgresqlDatabase(url, without_secrets(url), writes=writes)
