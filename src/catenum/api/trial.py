"""The baseline and each remedy, side by side: on schedules, or under load."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Unpack

from catenum.api.files import require
from catenum.api.lengths import Duration, milliseconds
from catenum.api.scenarios import RunOptions, RunRequest, ScenarioSource, request
from catenum.api.servers import server_for
from catenum.api.space import MOST_COMPARED, SpaceOptions, explore_options
from catenum.api.spread import spread_over
from catenum.core.compare.loop_comparison import LoopComparison
from catenum.core.compare.trial import Trial
from catenum.core.errors import InputError
from catenum.core.scenario.remedies import split_names
from catenum.core.text import suggestion
from catenum.lab.compare import trial as lab
from catenum.lab.compare.loop_comparison import contest
from catenum.lab.explore.walker import Explorer
from catenum.lab.run.play import PlayOptions
from catenum.lab.run.safety import named_locks_of

#: Loops of one transaction.
MOST_COPIES = 200


def trial(
    scenario: ScenarioSource,
    *,
    order: str | Sequence[str] | None = None,
    remedies: Sequence[str] | None = None,
    **options: Unpack[SpaceOptions],
) -> Trial:
    """Explore the scenario as it is and with each of its remedies (or of ``remedies``; 'one +
    other' is both), and judge them.

    ``order``: on this schedule and its mirror images only. Raises InputError, TargetError.
    """
    asked = _request(scenario, options, order, remedies)
    listener, played = asked.listener, _play_options(asked)

    def heard(name: str, explorer: Explorer) -> None:
        listener.part(explorer.fraction, f"of '{name}', {explorer.tally.schedules:,} schedules")

    with server_for(asked.where, asked.file, outside=asked.outside, listener=listener) as (
        connect,
        engine,
    ):
        try:
            if asked.order is not None:
                if options.get("cluster"):
                    raise InputError(
                        "--order and --cluster: a few given schedules are run here, at once"
                    )
                return lab.trial(
                    engine,
                    asked.scenario,
                    played,
                    file=asked.file,
                    only=remedies,
                    progress=listener.steps,
                )
            with spread_over(options, connect, engine, listener) as spread:
                return lab.trial_of_all(
                    spread.explores,
                    engine,
                    asked.scenario,
                    played,
                    explore_options(options, limit=MOST_COMPARED, timed=False),
                    file=asked.file,
                    only=remedies,
                    progress=heard,
                )
        finally:
            listener.clear()


def trial_under_load(
    scenario: ScenarioSource,
    *,
    remedies: Sequence[str] | None = None,
    copies: Mapping[str, int] | None = None,
    time_limit: Duration = "5s",
    commit: bool = False,
    **options: Unpack[RunOptions],
) -> list[LoopComparison]:
    """The same in loops and in turns, uncontrolled, each variant for ``time_limit``. Raises
    InputError, TargetError, LibraryError.
    """
    require("scipy", "--churn")
    asked = _request(scenario, options, None, remedies)
    if any(lock.of_session for lock in named_locks_of(asked.scenario, asked.target.server)):
        raise InputError(
            "--churn has all variants connected at once, and a named lock that a session of one"
            " keeps stops the others",
            advice="Leave --churn out: then each variant is explored by itself.",
        )
    with server_for(asked.where, asked.file, outside=asked.outside, listener=asked.listener) as (
        connect,
        _,
    ):
        try:
            return contest(
                connect,
                asked.scenario,
                copies=copies_of(copies or {}, asked),
                seconds=milliseconds(time_limit) / 1000,
                commit=commit,
                file=asked.file,
                only=remedies,
                progress=asked.listener.steps,
            )
        finally:
            asked.listener.clear()


def copies_of(copies: Mapping[str, int], asked: RunRequest) -> dict[str, int]:
    """How many loops of each transaction. Raises InputError for unknown names and counts that are
    too large.
    """
    names = list(asked.scenario.transactions)
    for name, number in copies.items():
        if name not in names:
            raise InputError(
                f"--copies names {name!r}, which is not a transaction",
                advice=suggestion(name, names),
            )
        if not 1 <= number <= MOST_COPIES:
            raise InputError(
                f"--copies {name}={number}: how many must be a number from 1 to {MOST_COPIES}"
            )
    return dict(copies)


def _request(
    source: ScenarioSource,
    options: RunOptions,
    order: str | Sequence[str] | None,
    remedies: Sequence[str] | None,
) -> RunRequest:
    asked = request(source, options, order=order)
    if not asked.scenario.remedies:
        raise InputError(
            "the scenario has no remedies to try",
            place=asked.file.place(),
            advice="Add them under 'remedies:', such as reorder.",
        )
    for name in remedies or ():
        split_names(name, asked.scenario.remedies)
    return asked


def _play_options(asked: RunRequest) -> PlayOptions:
    return PlayOptions(
        order=asked.order,
        locks="full",
        victim=asked.victim,
        limit_ms=asked.limit_ms,
        once=asked.outside,
    )
