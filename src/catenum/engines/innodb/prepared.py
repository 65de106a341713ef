"""Prepared transactions (XA): they outlive their session, the run, and the server's next start."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

Query = Callable[..., list[tuple[Any, ...]]]


def xids(query: Query) -> list[str]:
    """Those of the whole server, each as a statement names it (MySQL Reference Manual, 15.3.8; the
    same on MariaDB).

    Raises the driver's error where the login may not list them.
    """
    return [
        xid(_hex(data), int(first), int(second), str(form))
        for form, first, second, data in query("xa recover")
    ]


def _hex(data: Any) -> str:
    return data.hex() if isinstance(data, bytes) else str(data).encode("latin1", "replace").hex()


def xid(data: str, first: int, second: int, form: str) -> str:
    """The words of a prepared transaction, of its data in hex: the global part, the branch, the
    format.
    """
    whole = bytes.fromhex(data.removeprefix("0x"))
    return f"{_part(whole[:first])},{_part(whole[first : first + second])},{int(form)}"


def _part(data: bytes) -> str:
    text = data.decode("latin1")
    plain = text.isascii() and text.isprintable() and "'" not in text and "\\" not in text
    return f"'{text}'" if plain else f"X'{data.hex()}'"
