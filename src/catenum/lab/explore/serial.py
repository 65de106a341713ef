"""Asks the serial oracle of each run: the serial orders are run on the same stage, once each, when
first needed.
"""

from __future__ import annotations

import functools
from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import islice

from catenum.core.space.anomaly import Anomaly, name_anomaly
from catenum.core.space.oracle import (
    MOST_ORDERS,
    Observation,
    count_of_orders,
    lanes_of,
    serial_orders,
    transaction_of,
)
from catenum.core.space.run import Run, Wrong
from catenum.core.space.schedule import merges
from catenum.core.text import listed
from catenum.lab.explore.stage import Stage

#: Orders of all transactions that are run to see whether one of them breaks a rule.
MOST_FOR_RULES = 24
#: Verdicts and serial runs that are remembered.
MOST_KEPT = 5000


def _never_both(committed: Sequence[str]) -> str:
    names = listed(sorted(committed))
    if len(committed) == 1:
        return f"{names} committed, but run alone it fails"
    return (
        f"{names} all committed, but one after another, in whatever order, one of them fails: what"
        " it checks was true only because it did not see the others"
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class _Compared:
    """A result held against the serial orders: ``never``, none of them ends well; ``more``, not all
    of them were run.
    """

    serial: bool
    wrong: Wrong = "rows"
    never: bool = False
    more: bool = False


class Oracle:
    """Judges runs by the serial orders of the transactions that committed in them."""

    def __init__(self, stage: Stage) -> None:
        self.stage = stage
        self.asked = 0  # serial orders that were run
        self._serial: dict[tuple[str, ...], Observation | None] = {}
        # by what was seen, and the rows at the end
        self._compared: dict[object, _Compared] = {}
        self.broken: dict[str, tuple[str, ...]] = {}  # rules, and a serial order that breaks each

    def judge(self, run: Run) -> Run:
        """The run with its verdict on the data."""
        if any(value is False for value in run.holds.values()):
            self._find_broken()
        key = run.observed.key
        compared = self._compared.get(key)
        if compared is None:
            compared = self._compare(run.observed)
            if len(self._compared) < MOST_KEPT:
                self._compared[key] = compared
        if compared.serial:
            return replace(run, data="serial", anomaly=None, wrong=None)
        anomaly = self._anomaly(run, compared)
        if anomaly is None:
            return replace(run, data="unchecked", anomaly=None, wrong=None)
        return replace(run, data="anomaly", anomaly=anomaly, wrong=compared.wrong)

    def _compare(self, observed: Observation) -> _Compared:
        wrong: Wrong | None = None
        lanes = lanes_of(observed.committed, self.stage.scenario.connections.values())
        for order in serial_orders(observed.committed, lanes):
            serial = self.serially(order)
            if serial is None:
                continue
            if serial.key == observed.key:
                return _Compared(serial=True)
            wrong = "reads" if serial.end == observed.end else wrong or "rows"
        return _Compared(
            serial=False,
            wrong=wrong or "rows",
            never=wrong is None,
            more=count_of_orders(lanes) > MOST_ORDERS,
        )

    def _anomaly(self, run: Run, compared: _Compared) -> Anomaly | None:
        """What is wrong with a run that no serial order gives; None where that is not certain."""
        committed = run.observed.committed
        # one of the orders that were not run may give it
        if compared.more or self._left_traces(run, committed):
            return None
        lost = [one for one in run.lost if one.transaction in committed]
        if lost:
            names = tuple(dict.fromkeys(one.transaction for one in lost))
            evidence = tuple(map(str, lost))
            return Anomaly(name="partial commit", transactions=names, evidence=evidence)
        if compared.never:
            text = _never_both(committed)
            return Anomaly(name="other anomaly", transactions=committed, evidence=(text,))
        wrote = [
            name for name, status in run.status.items() if status not in ("committed", "not begun")
        ]
        if any(transaction_of(one) != one for one in committed):
            text = f"no order of {listed(sorted(committed))} gives the same"
            return Anomaly(name="other anomaly", transactions=committed, evidence=(text,))
        # by the run itself: two with one result may differ in who had committed when
        return name_anomaly(run.observed, self.serially, self.stage.dependence, wrote)

    def _left_traces(self, run: Run, committed: Sequence[str]) -> bool:
        """Whether a transaction that did not commit may have left something on a connection on
        which others did: in serial orders of those alone it is missing.
        """
        ended = {transaction_of(one) for one in committed}
        return any(
            ended & set(names) and run.status[name] not in ("committed", "not begun")
            for names in self.stage.scenario.connections.values()
            if len(names) > 1
            for name in names
        )

    @functools.cache  # noqa: B019 - as long-lived as its stage
    def _find_broken(self) -> None:
        """Which rules are false where all transactions run one after another, in some order."""
        connections = list(self.stage.scenario.connections.values())
        for order in islice(merges(connections), MOST_FOR_RULES):
            for title, value in self.stage.serial_run(order).holds.items():
                if value is False:
                    self.broken.setdefault(title, order)

    def serially(self, order: Sequence[str]) -> Observation | None:
        """What an order of transactions gives one after another; None where one of them does not
        commit.
        """
        key = tuple(order)
        if key in self._serial:
            return self._serial[key]
        self.asked += 1
        found = self.stage.serially(key)
        if len(self._serial) < MOST_KEPT:
            self._serial[key] = found
        return found
