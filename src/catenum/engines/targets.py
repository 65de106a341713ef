"""Targets: what ``--target`` may say, and how it becomes an engine.

``local:postgresql`` is a private server; a URL is a server of the user's; any other word is a short
name from ``catenum.toml``, found upward from the working folder, then in the user's configuration
folder.
"""

from __future__ import annotations

import os
import re
import tomllib
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any
from urllib.parse import unquote_to_bytes, urlsplit, urlunsplit

from catenum.core.errors import InputError, Place
from catenum.core.servers import (
    NAMES,
    SCHEMES,
    known_servers,
    profile_of,
    rules_of,
    server_of_scheme,
)
from catenum.core.text import suggestion
from catenum.engines.drivers import server_module

DEFAULT = "local:postgresql"
LOCAL = tuple(f"local:{name}" for name in NAMES)
_FILE = "catenum.toml"
_KEYS = ("target", "targets", "local", "profiles")


@dataclass(frozen=True)
class Settings:
    """What ``catenum.toml`` says: short names of targets, the default one, settings of private
    servers, and where the profiles of other kinds of servers are.
    """

    targets: Mapping[str, str] = field(default_factory=dict)
    target: str | None = None
    local: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    profiles: Mapping[str, str] = field(default_factory=dict)
    file: Path | None = None


@dataclass(frozen=True)
class Target:
    """A resolved target. ``url`` may hold a password; ``shown`` never does."""

    server: str
    shown: str
    url: str | None
    settings: Settings

    @property
    def private(self) -> bool:
        """Whether Catenum starts the server itself."""
        return self.url is None


def read_settings(start: Path | None = None) -> Settings:
    """The nearest ``catenum.toml``. Raises InputError where it cannot be understood."""
    here = (start or Path.cwd()).absolute()
    user = Path(os.environ.get("XDG_CONFIG_HOME") or Path.home() / ".config") / "catenum"
    file = next((f / _FILE for f in (here, *here.parents, user) if (f / _FILE).is_file()), None)
    if file is None:
        return Settings()
    try:
        plain = tomllib.loads(file.read_text(encoding="utf-8"))
    except (tomllib.TOMLDecodeError, UnicodeDecodeError, OSError) as error:
        raise InputError(f"cannot be read: {error}", place=Place(str(file))) from error
    return _checked(plain, file)


def _checked(plain: dict[str, Any], file: Path) -> Settings:
    place = Place(str(file))
    for key in plain:
        if key not in _KEYS:
            raise InputError(
                f"unknown key {key!r}", place=place, advice=suggestion(key, list(_KEYS))
            )
    targets, local = plain.get("targets", {}), plain.get("local", {})
    profiles = plain.get("profiles", {})
    if not isinstance(profiles, dict) or not all(isinstance(one, str) for one in profiles.values()):
        raise InputError("profiles must map names of servers to files", place=place)
    if not isinstance(targets, dict) or not all(isinstance(url, str) for url in targets.values()):
        raise InputError("targets must map short names to URLs", place=place)
    if not isinstance(local, dict) or not all(isinstance(part, dict) for part in local.values()):
        raise InputError(
            "local must have one table a server, such as [local.postgresql]", place=place
        )
    return Settings(targets, plain.get("target"), local, profiles, file)


def resolve(asked: str | None, settings: Settings) -> Target:
    """The target that was asked for, or the default one. Raises InputError where it is none."""
    word = asked or os.environ.get("CATENUM_TARGET") or settings.target or DEFAULT
    word = settings.targets.get(word, word)
    if word.startswith("local:"):
        if word not in LOCAL:
            raise InputError(f"there is no target {word!r}", advice=suggestion(word, list(LOCAL)))
        return Target(word.removeprefix("local:"), word, None, settings)
    scheme, separator, _ = word.partition("://")
    if not separator:
        names = [*LOCAL, *settings.targets]
        raise InputError(
            f"{word!r} is no target", advice=f"{suggestion(word, names)} Or a URL: postgresql://…"
        )
    server = server_of_scheme(scheme)
    if server is None and scheme in settings.profiles and settings.file is not None:
        from catenum.engines.profiles import use_profile

        server = use_profile(settings.file.parent / settings.profiles[scheme]).name
        if server != scheme:
            raise InputError(
                f"profiles.{scheme} is the profile of {server!r}", place=Place(str(settings.file))
            )
    if server is None:
        raise InputError(
            f"no server is known by {scheme}://",
            advice=f"{suggestion(scheme, [*SCHEMES, *known_servers()])} Another kind of server is"
            " taught by a profile: --profile FILE (docs/profiles.md).",
        )
    check_url(word)
    return Target(server, without_secrets(word), word, settings)


def check_url(url: str) -> None:
    """Raises InputError for a URL that cannot be read, without what stands in it: that may be a
    password.
    """
    what, advice = (
        "",
        "Letters that mean something in a URL are written as %40 (@), %23 (#), %2F (/), %25 (%).",
    )
    if re.search(r"%(?![0-9A-Fa-f]{2})", url):
        what = "a % in it is followed by no two hexadecimal digits"
    elif re.search(r"[\s\x00-\x1f\x7f]", url):
        what = "it contains a blank"
    elif "#" in url:
        what = "it contains a #"
    else:
        try:
            unquote_to_bytes(url).decode()
            parts = urlsplit(url)
            _ = parts.hostname, parts.port
        except UnicodeDecodeError:
            what = "what its % stand for is no text (UTF-8)"
        except ValueError as error:
            what = (
                "its port is no number up to 65535"
                if "port" in str(error).lower()
                else "its host cannot be read"
            )
    if what:
        raise InputError(f"the URL of the target is not valid: {what}", advice=advice) from None


def settled(target: Target) -> Target:
    """The target with the server that answers there: of some, several are called by the same first
    word of a URL.

    Raises TargetError where nobody answers, InputError for a URL that the driver does not
    understand.
    """
    if target.url is None or not rules_of(target.server).answers_as:
        return target
    server_module(target.server)  # its driver may be missing
    from catenum.engines.innodb.server_identity import who_answers

    return replace(target, server=who_answers(target.url, target.shown))


def has_password(url: str) -> bool:
    """Whether a URL carries a password in plain sight."""
    try:
        parts = urlsplit(url)
        return bool(parts.password) or "password=" in parts.query
    except ValueError:
        return "@" in url


def without_secrets(url: str) -> str:
    """The URL as it may be shown: without password and without parameters."""
    try:
        parts = urlsplit(url)
        host = parts.netloc.rpartition("@")[2]
        user = f"{parts.username}@" if parts.username else ""
        return urlunsplit((parts.scheme, user + host, parts.path, "", ""))
    except ValueError:
        return url.partition("://")[0] + "://…"


@dataclass(frozen=True)
class Connector:
    """Connects engines to one server, each call a new one. A plain value, so that other processes
    can be given it.

    ``where`` may hold a password: it travels through pipes only, never through a command line.
    """

    server: str
    where: Any
    shown: str
    private: bool = False
    sandboxed: bool = True
    own: Mapping[str, str] = field(default_factory=dict)

    def __call__(self) -> Any:
        """An engine. Raises TargetError."""
        module = server_module(self.server, ".engine")
        engine = module.connect(
            self.where, self.shown, private=self.private, sandboxed=self.sandboxed
        )
        if self.own:
            engine.leave_alone(self.own)
        return engine


@contextmanager
def open_engine(
    target: Target,
    tell: Callable[[str], None],
    *,
    sandboxed: bool = True,
    own: Mapping[str, str] | None = None,
    alone: bool = False,
) -> Iterator[Connector]:
    """What connects engines to ``target``; a private server lives as long as the block.

    ``tell`` hears what a person should know meanwhile (a server is being made, something was
    cleared). ``sandboxed``: on a private server a scenario's SQL is run by a login that has rights
    on the scratch space alone. ``own``: settings of the private server; raises InputError where the
    target is another. ``alone``: a private server that no other process uses.
    """
    profile = profile_of(target.server)
    if target.url is not None and own:
        raise InputError(
            f"the scenario gives its server settings ({', '.join(own)}), and {target.shown} is not"
            " a private server",
            advice=f"Use local:{target.server}, or leave out the key 'server'.",
        )
    if target.url is not None:
        where = target.url if profile is None else (profile, target.url)
        yield Connector(target.server, where, target.shown, sandboxed=sandboxed)
        return
    from catenum.engines.private import private_server

    settings = target.settings.local.get(target.server, {})
    with private_server(target.server, settings, tell, own, alone=alone) as server:
        for text in server.cleared:
            tell(f"Cleared {text}.")
        yield Connector(
            target.server,
            server.where,
            target.shown,
            private=True,
            sandboxed=sandboxed,
            own=own or {},
        )
