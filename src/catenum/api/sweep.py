"""Every way in which the parameters of a scenario's transactions can coincide."""

from __future__ import annotations

from typing import Unpack

from catenum.api.lengths import milliseconds
from catenum.api.scenarios import ScenarioSource, request
from catenum.api.servers import server_for
from catenum.api.space import SpaceOptions, explore_options
from catenum.api.spread import spread_over
from catenum.core.errors import InputError
from catenum.core.sweep.cases import MOST_ASSIGNMENTS
from catenum.core.sweep.result import Sweep
from catenum.lab.sweep.sweep import MOST_CASES, MOST_SCHEDULES, Sweeper


def sweep(
    scenario: ScenarioSource,
    *,
    remedy: str | None = None,
    longest: int | None = None,
    most: int = MOST_ASSIGNMENTS,
    cases: int = MOST_CASES,
    **options: Unpack[SpaceOptions],
) -> Sweep:
    """Run every distinct way in which parameters of one domain are equal or different between the
    transactions, and between each and a second copy of itself.

    ``remedy``: one of the scenario's applied, or 'one + other'; ``longest``: lists have up to so
    many elements (three by default, two where that would be many cases); ``most``: of more
    assignments a sample is looked at; ``cases``: of more distinct cases of one set of transactions
    the most connected are run; ``time_limit``: no case is begun later. Raises InputError,
    TargetError.
    """
    if options.get("outside"):
        raise InputError("--outside: sweep makes rows up, and does so in scratch space only")
    asked = request(scenario, options, remedy=remedy)
    length = options.get("time_limit")
    listener = asked.listener
    with (
        server_for(asked.where, asked.file, listener=listener) as (connect, engine),
        spread_over(options, connect, engine, listener) as spread,
    ):
        try:
            return Sweeper(
                explores=spread.explores,
                engine=engine,
                scenario=asked.scenario,
                options=explore_options(options, limit=MOST_SCHEDULES, timed=False),
                file=asked.file,
                ddl=asked.ddl,
                longest=longest,
                most=most,
                cases=cases,
                for_ms=milliseconds(length) if length else None,
                progress=listener.part,
            ).run()
        finally:
            listener.clear()
