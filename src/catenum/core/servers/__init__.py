"""The servers: everything that a server's rules say, behind one protocol. Some have a module of
their name here, others a profile: one that ships, or one that a person has written.

There is no default: a name that stands for no server here is an error. A server's rules are loaded
when they are first asked for.
"""

from __future__ import annotations

import importlib
from collections.abc import Mapping
from functools import cache
from importlib import resources
from typing import TYPE_CHECKING

from catenum.core.errors import InputError
from catenum.core.servers.rules import STANDARD_LEVELS, Rules

if TYPE_CHECKING:  # most commands need no profile, and reading one takes its time
    from catenum.core.servers.profile import Profile

__all__ = [
    "LEVELS",
    "NAMES",
    "NATIVE",
    "SCHEMES",
    "STANDARD_LEVELS",
    "Rules",
    "known_servers",
    "profile_of",
    "register",
    "rules_of",
    "server_of_scheme",
    "servers_of_texts",
]

#: Servers with rules of their own, and those that ship as a profile.
NATIVE: tuple[str, ...] = ("postgresql", "mariadb", "mysql")
NAMES: tuple[str, ...] = (*NATIVE, "derby")
#: The first words of URLs, and the server that each leads to; a profile's is its name.
SCHEMES = {
    "postgresql": "postgresql",
    "postgres": "postgresql",
    "mariadb": "mariadb",
    "mysql": "mysql",
}
#: Every isolation level that some server has, those of the standard first.
LEVELS: tuple[str, ...] = STANDARD_LEVELS
_registered: dict[str, Profile] = {}


def register(profile: Profile) -> None:
    """From now on there is a server of this profile's name, also in place of one that ships. Raises
    InputError where the name is that of a server with rules of its own.
    """
    if profile.name in NATIVE:
        raise InputError(
            f"the profile is called {profile.name!r}, which is a server that Catenum has rules of"
            " its own for",
            advice="Call it otherwise: name = …",
        )
    if _registered.get(profile.name) != profile:
        _registered[profile.name] = profile
        _rules_of_profile.cache_clear()


def known_servers() -> tuple[str, ...]:
    """All names of servers, of profiles that were given among them."""
    return (*NAMES, *(name for name in _registered if name not in NAMES))


def server_of_scheme(scheme: str) -> str | None:
    """The server that URLs with this first word lead to."""
    return SCHEMES.get(scheme) or (scheme if scheme in known_servers() else None)


def servers_of_texts(text: object) -> tuple[str, ...]:
    """The servers whose text of a statement is to be looked at: those with rules of their own, and
    others where it has a text of theirs.
    """
    own = tuple(str(name) for name in text) if isinstance(text, Mapping) else ()
    return (*NATIVE, *(name for name in own if name not in NATIVE and name in known_servers()))


def profile_of(server: str) -> Profile | None:
    """The profile by which a server is known; None where it has rules of its own."""
    return _profile(server) if server in known_servers() and server not in NATIVE else None


def _profile(server: str) -> Profile:
    given = _registered.get(server)
    return given if given is not None else _shipped(server)


@cache
def _shipped(server: str) -> Profile:
    from catenum.core.servers.profile import read_profile

    name = f"{server}.toml"
    return read_profile(resources.files(__name__).joinpath(name).read_bytes(), name)


@cache
def _rules_of_profile(server: str) -> Rules:
    from catenum.core.servers.by_profile import rules_by

    return rules_by(_profile(server))


@cache
def _native_rules(server: str) -> Rules:
    rules: Rules = importlib.import_module(f"catenum.core.servers.{server}").RULES
    return rules


def rules_of(server: str) -> Rules:
    """The rules of the server called ``server``. Raises InputError where there are none."""
    if server in NATIVE:
        return _native_rules(server)
    if server not in known_servers():
        raise InputError(
            f"unknown server {server!r}",
            advice=f"Known servers: {', '.join(known_servers())}; others by --profile FILE.",
        )
    return _rules_of_profile(server)
