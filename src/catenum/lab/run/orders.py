"""A scenario's named orders, played one after another, each beside what must be seen in it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

from catenum.core.compare.expectation import Difference, differences
from catenum.core.errors import Place
from catenum.core.record.recording import Recording
from catenum.core.scenario.model import Expectation, NamedOrder, Scenario
from catenum.core.scenario.reader import ScenarioFile
from catenum.engines.ports import Engine
from catenum.lab.run.play import PlayOptions, play


@dataclass(frozen=True, slots=True)
class PlayedOrder:
    """A named order as it was played. ``as_expected``: None where nothing is expected of it on this
    server, or where it is not compared: then ``why_not``. Each difference has the place of what was
    expected, where the file is known.
    """

    name: str
    recording: Recording
    differences: tuple[tuple[Difference, Place | None], ...]
    as_expected: bool | None
    why_not: str = ""


def play_orders(
    engine: Engine,
    scenario: Scenario,
    options: PlayOptions,
    *,
    names: tuple[str, ...],
    changed: str | None = None,
    file: ScenarioFile | None = None,
    ddl: tuple[str, ...] = (),
    notes: tuple[str, ...] = (),
) -> Iterator[PlayedOrder]:
    """Each named order when it is over. ``changed``: by which option the scenario is another one
    than that of which its expectations speak. Raises as ``play`` does.
    """
    for name in names:
        named = scenario.orders[name]
        locks = "waits" if options.locks == "none" else options.locks  # waits are compared
        asked = replace(options, order=named.order or options.order, locks=locks)
        as_named = scenario.model_copy(update={"timeouts": named.timeouts or scenario.timeouts})
        recording = play(engine, as_named, asked, file=file, ddl=ddl, notes=notes)
        expected = named.expected_on(engine.info.server) if changed is None else None
        server = engine.info.server
        found = tuple(
            (one, _place_of(file, name, one, server) if file is not None else None)
            for one in (differences(expected, recording) if expected is not None else ())
        )
        why = f"not compared, with {changed}" if changed is not None else ""
        yield PlayedOrder(name, recording, found, not found if expected is not None else None, why)


def _place_of(file: ScenarioFile, order: str, difference: Difference, server: str) -> Place:
    """Where in the file the expectation stands that a difference is from."""
    named: NamedOrder = file.scenario.orders[order]
    below = () if isinstance(named.expect, Expectation) else (server,)
    return file.place("orders", order, "expect", *below, *difference.path)
