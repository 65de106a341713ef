"""One schedule of a scenario, and the orders that it names."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Unpack

from catenum.api.scenarios import RunOptions, RunRequest, ScenarioSource, request
from catenum.api.servers import engine_for
from catenum.core.errors import InputError
from catenum.core.record.recording import Recording
from catenum.core.text import suggestion
from catenum.engines.ports import Engine
from catenum.lab.run import orders
from catenum.lab.run.orders import PlayedOrder
from catenum.lab.run.play import LockDetail, PlayOptions, fault_of
from catenum.lab.run.play import play as play_on
from catenum.lab.run.requests import Announce


def play(
    scenario: ScenarioSource,
    *,
    order: str | Sequence[str] | None = None,
    remedy: str | None = None,
    locks: LockDetail = "waits",
    announce: Callable[[Announce], None] | None = None,
    heard: Callable[[Recording], None] | None = None,
    **options: Unpack[RunOptions],
) -> Recording:
    """Run one schedule and return its recording.

    ``order``: moves instead of the scenario's, as ``early late early``; ``remedy``: one of the
    scenario's applied, or 'one + other'; ``locks``: which are collected (``full``: every lock and
    the rows after each move); ``announce``: called before each move. Raises InputError where the
    scenario is at fault, TargetError where the server is lost. ``heard`` is given the recording
    also where a condition or a value of the scenario is then found at fault.
    """
    asked = request(scenario, options, order=order, remedy=remedy)
    how = _how(asked, locks, announce)
    with engine_for(
        asked.where, asked.file, outside=asked.outside, listener=asked.listener
    ) as engine:
        recording = play_on(
            engine, asked.scenario, how, file=asked.file, ddl=asked.ddl, notes=_notes(asked, engine)
        )
    if heard is not None:
        heard(recording)
    fault = fault_of(recording, asked.file)
    if fault is not None:
        raise fault
    return recording


def play_orders(
    scenario: ScenarioSource,
    names: Sequence[str] | None = None,
    *,
    remedy: str | None = None,
    locks: LockDetail = "waits",
    announce: Callable[[Announce], None] | None = None,
    heard: Callable[[PlayedOrder], None] | None = None,
    **options: Unpack[RunOptions],
) -> list[PlayedOrder]:
    """Run the orders that the scenario names (or those of ``names``), and compare each with what it
    says must be seen.

    Not compared where an option makes another scenario of it. ``heard`` is given each when it is
    over. Raises as ``play`` does, and InputError where there is no such order.
    """
    asked = request(scenario, options, remedy=remedy)
    known = list(asked.scenario.orders)
    for name in names or ():
        if name not in known:
            raise InputError(
                f"--named: {asked.file.file} has no order {name!r}",
                advice=suggestion(name, known) or "'orders' of a scenario names orders.",
            )
    played: list[PlayedOrder] = []
    with engine_for(
        asked.where, asked.file, outside=asked.outside, listener=asked.listener
    ) as engine:
        for one in orders.play_orders(
            engine,
            asked.scenario,
            _how(asked, locks, announce),
            names=tuple(known if names is None else names),
            changed=asked.changed,
            file=asked.file,
            ddl=asked.ddl,
            notes=_notes(asked, engine),
        ):
            if heard is not None:
                heard(one)
            fault = fault_of(one.recording, asked.file)
            if fault is not None:
                raise fault
            played.append(one)
    return played


def _how(
    asked: RunRequest, locks: LockDetail, announce: Callable[[Announce], None] | None
) -> PlayOptions:
    return PlayOptions(
        order=asked.order,
        locks=locks,
        victim=asked.victim,
        limit_ms=asked.limit_ms,
        once=asked.outside or announce is not None,
        announce=announce,
    )


def _notes(asked: RunRequest, engine: Engine) -> tuple[str, ...]:
    victim, capabilities = asked.victim or asked.scenario.victim, engine.capabilities
    if victim and not capabilities.steers_victim:
        return (f"victim {victim} was asked for, but {capabilities.steers_victim_why}",)
    return ()
