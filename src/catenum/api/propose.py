"""Changes that would end a scenario's conflicts, derived, tried and ranked."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Unpack

from catenum.api.files import require
from catenum.api.lengths import milliseconds
from catenum.api.scenarios import ScenarioSource, request
from catenum.api.servers import server_for
from catenum.api.space import MOST_COMPARED, SpaceOptions, explore_options
from catenum.api.spread import spread_over
from catenum.api.trial import copies_of
from catenum.core.errors import InputError
from catenum.core.propose.proposals import Proposals
from catenum.core.propose.ranking import Proposal
from catenum.lab.explore.walker import Explorer
from catenum.lab.propose.propose import Proposer
from catenum.lab.run.play import PlayOptions


def propose(
    scenario: ScenarioSource,
    *,
    order: str | Sequence[str] | None = None,
    churn: bool = False,
    copies: Mapping[str, int] | None = None,
    first: Callable[[Proposal], None] = lambda proposal: None,
    show: bool = True,
    **options: Unpack[SpaceOptions],
) -> Proposals:
    """Derive changes from what is seen, try each on every schedule, and rank them.

    ``churn``: also in loops (``copies`` of each transaction), for conflicts inside statements;
    ``time_limit``: no candidate is tried later; ``first`` is given the first change that cures, as
    soon as it is found; ``show``: at the end the worst schedule is played as it is and with what is
    put first (``before`` and ``after``). Raises InputError, TargetError.
    """
    if options.get("outside"):
        raise InputError("--outside: propose tries changes, and does so in scratch space only")
    if churn:
        require("scipy", "--churn")
    asked = request(scenario, options, order=order)
    listener, length = asked.listener, options.get("time_limit")

    def heard(name: str, explorer: Explorer | None) -> None:
        if explorer is None:
            listener.part(0.0, name)
        else:
            listener.part(explorer.fraction, f"of '{name}', {explorer.tally.schedules:,} schedules")

    with (
        server_for(asked.where, asked.file, listener=listener) as (connect, engine),
        spread_over(options, connect, engine, listener) as spread,
    ):
        try:
            return Proposer(
                connect=connect,
                engine=engine,
                explores=spread.explores,
                scenario=asked.scenario,
                options=PlayOptions(
                    order=asked.order, locks="full", victim=asked.victim, limit_ms=asked.limit_ms
                ),
                how=explore_options(options, limit=MOST_COMPARED, timed=False),
                file=asked.file,
                for_ms=milliseconds(length) if length else None,
                progress=heard,
                shown=show,
                first=first,
                copies=copies_of(copies or {}, asked) if churn else None,
            ).run()
        finally:
            listener.clear()
