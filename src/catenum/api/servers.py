"""Where a command runs: a target by its name or URL, or a server that ``connect`` holds ready."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from catenum.api.listener import SILENT, Listener
from catenum.core.errors import InputError, Problem, ScenarioFault, TargetError
from catenum.core.servers import profile_of, rules_of
from catenum.engines.targets import (
    Connector,
    Target,
    has_password,
    open_engine,
    read_settings,
    resolve,
    settled,
)

if TYPE_CHECKING:  # who watches a server reads no scenario
    from catenum.core.scenario.reader import ScenarioFile
    from catenum.engines.ports import Engine


@dataclass(frozen=True)
class Server:
    """A server that stays for several calls, as ``connect`` gives it. Each call makes scratch space
    of its own on it, and drops it.
    """

    target: Target
    connector: Connector

    def __str__(self) -> str:
        return self.target.shown


TargetSource = str | Target | Server | None


@contextlib.contextmanager
def connect(
    target: TargetSource = None,
    *,
    settings: Mapping[str, str] | None = None,
    listener: Listener = SILENT,
) -> Iterator[Server]:
    """A server for several calls: ``with connect() as server: explore(scenario, target=server)``.

    Without it each call with a private server finds or starts one. ``settings``: of the private
    server, for scenarios that ask for them. Raises InputError, TargetError.
    """
    found = find_target(target, listener)
    with open_engine(found, listener.tell, own=settings) as connector:
        yield Server(found, connector)


def find_target(asked: TargetSource, listener: Listener = SILENT, *, settle: bool = True) -> Target:
    """The resolved target; with ``settle``, of the server that answers there.

    With a warning where it carries a password: a command's words are shown in the process list.
    Raises InputError, TargetError.
    """
    if isinstance(asked, Server):
        return asked.target
    if isinstance(asked, Target):
        return asked
    target = resolve(asked, read_settings())
    if asked and has_password(asked):
        *others, last = rules_of(target.server).advice.password_places
        instead = f"{', '.join(others)} or {last}" if others else last
        listener.warn(
            f"the process list shows the password in --target; set it in {instead} instead"
        )
    return settled(target) if settle else target


def refuse_profile(target: Target, what: str) -> None:
    """Raises InputError where a server is known by a profile alone, for what needs more than that
    says.
    """
    if profile_of(target.server) is not None:
        raise InputError(
            f"{what} needs rules of a server's own, and {rules_of(target.server).title} is known by"
            " its profile",
            advice="What profiles are enough for: docs/profiles.md.",
        )


@contextlib.contextmanager
def server_for(
    where: Target | Server,
    file: ScenarioFile | None = None,
    *,
    outside: bool = False,
    more: Mapping[str, str] | None = None,
    listener: Listener = SILENT,
) -> Iterator[tuple[Connector, Engine]]:
    """What connects to the target, and one engine with scratch space made, which is gone when the
    block ends.

    Raises InputError where the server keeps no wall around that space, and ``file`` has statements
    of which it is not certain that they stay within; ``outside`` allows those. ``more``: settings
    that a private server must have besides those of the scenario.
    """
    target = where.target if isinstance(where, Server) else where
    own = file.scenario.settings_on(target.server) if file is not None else {}
    with connector_for(where, {**own, **(more or {})}, listener, sandboxed=not outside) as connect:
        engine: Engine = connect()
        try:
            if file is not None and not outside and not engine.sandboxed:
                refuse_uncontained(file, target)
            for name in engine.make_scratch():
                listener.tell(f"Dropped the scratch space {name}, left by a killed run.")
            if file is not None:
                _refuse_crowd(file, engine)
            try:
                yield connect, engine
            except ScenarioFault as fault:
                if file is None:
                    raise
                raise InputError(fault.problems[0].message, place=file.place("data")) from fault
        finally:
            engine.close()


@contextlib.contextmanager
def engine_for(
    where: Target | Server,
    file: ScenarioFile | None = None,
    *,
    outside: bool = False,
    more: Mapping[str, str] | None = None,
    listener: Listener = SILENT,
) -> Iterator[Engine]:
    """An engine with scratch space made; both are gone when the block ends, however it ends. Raises
    as server_for.
    """
    with server_for(where, file, outside=outside, more=more, listener=listener) as (_, engine):
        yield engine


@contextlib.contextmanager
def connector_for(
    where: Target | Server, own: Mapping[str, str], listener: Listener, *, sandboxed: bool = True
) -> Iterator[Connector]:
    """What connects to the target, or to the server that is there; a private one of the target's
    lives as long as the block. Raises InputError where it lacks settings of ``own``.
    """
    if isinstance(where, Target):
        with open_engine(where, listener.tell, sandboxed=sandboxed, own=own) as connector:
            yield connector
        return
    if any(where.connector.own.get(name) != value for name, value in own.items()):
        wanted = ", ".join(f"{name} = {value}" for name, value in own.items())
        raise InputError(
            f"the scenario asks for a server with {wanted}",
            advice="Give connect() these settings, or the call a target instead of a server.",
        )
    yield replace(where.connector, sandboxed=sandboxed)


def refuse_uncontained(file: ScenarioFile, target: Target) -> None:
    """Raises InputError for statements that only a wall would let run: it is not certain what they
    reach.
    """
    from catenum.lab.run.safety import uncontained_statements

    advice = (
        f"Here they have all the rights of your login. Use local:{target.server}, or allow it with"
        f" --outside{rules_of(target.server).advice.wall_advice}."
    )
    found = uncontained_statements(file.scenario, target.server)
    problems = [Problem(one.words, file.place(*one.path), advice) for one in found]
    if problems:
        raise InputError.from_problems(problems)


def _refuse_crowd(file: ScenarioFile, engine: Engine) -> None:
    """Raises TargetError where the server does not let so many sessions in: before the first of
    them begins.
    """
    count, left = (len(file.scenario.connections), engine.connections_left())
    if count > left:
        raise TargetError(
            f"{engine.info.url}: the scenario's transactions take {count} connections, and the"
            f" server has {left} left (max_connections)",
            advice="Give the scenario fewer transactions, or the server more connections.",
        )
