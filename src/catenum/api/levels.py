"""What each isolation level prevents on a server, and which one a scenario needs."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Unpack

from catenum.api.listener import SILENT, Listener
from catenum.api.scenarios import ScenarioSource, request
from catenum.api.servers import Server, TargetSource, find_target, server_for
from catenum.api.space import SpaceOptions, explore_options
from catenum.core.levels.matrix import Matrix
from catenum.core.levels.need import Need
from catenum.core.servers import rules_of
from catenum.lab.explore.walker import Explorer
from catenum.lab.levels.matrix import explore_levels
from catenum.lab.levels.need import NeedFinder

RETRIES, MOST_CLASSES = 3, 2_000


def levels(target: TargetSource = None, *, listener: Listener = SILENT) -> Matrix:
    """Explore the shipped probes at each level of a server. Raises InputError, TargetError."""
    where = target if isinstance(target, Server) else find_target(target, listener)
    shown = find_target(where).shown
    try:
        with server_for(where, listener=listener) as (connect, engine):
            return explore_levels(
                connect,
                engine,
                progress=lambda done, whole, what: listener.steps(done, whole, f"{shown}: {what}"),
            )
    finally:
        listener.clear()


def need(
    scenario: ScenarioSource, *, retries: int = RETRIES, **options: Unpack[SpaceOptions]
) -> Need:
    """The least strict level at which every schedule is right, for all transactions and for each.

    ``retries``: how often a transaction that is refused or a victim begins again, where it has no
    retry of its own. Raises InputError, TargetError.
    """
    asked = request(scenario, options)
    ranks = rules_of(asked.target.server).locks

    def heard(assigned: Mapping[str, str], explorer: Explorer) -> None:
        same = set(assigned.values())
        at = (
            same.pop()
            if len(same) == 1
            else "/".join(str(ranks.rank(v)) for v in assigned.values())
        )
        asked.listener.part(explorer.fraction, f"of {at}, {explorer.tally.schedules:,} schedules")

    with server_for(asked.where, asked.file, outside=asked.outside, listener=asked.listener) as (
        connect,
        engine,
    ):
        try:
            return NeedFinder(
                connect=connect,
                engine=engine,
                scenario=asked.scenario,
                options=explore_options(options, limit=MOST_CLASSES),
                retries=retries,
                workers=options.get("workers", 1),
                file=asked.file,
                progress=heard,
            ).find()
        finally:
            asked.listener.clear()
