"""Asks the serial oracle of each run: the serial orders are run on the same stage, once each, when
first needed.
"""

from __future__ import annotations

import functools
from collections.abc import Sequence
from dataclasses import replace
from itertools import islice

from catenum.core.record.recording import DataVerdict
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


class Oracle:
    """Judges runs by the serial orders of the transactions that committed in them."""

    def __init__(self, stage: Stage) -> None:
        self.stage = stage
        self.asked = 0  # serial orders that were run
        self._serial: dict[tuple[str, ...], Observation | None] = {}
        self._verdicts: dict[object, tuple[DataVerdict, Anomaly | None, Wrong | None]] = {}
        self.broken: dict[str, tuple[str, ...]] = {}  # rules, and a serial order that breaks each

    def judge(self, run: Run) -> Run:
        """The run with its verdict on the data."""
        key = run.observed.key
        found = self._verdicts.get(key)
        if found is None:
            found = self._judge(run)
            if len(self._verdicts) < MOST_KEPT:
                self._verdicts[key] = found
        if any(value is False for value in run.holds.values()):
            self._find_broken()
        data, anomaly, wrong = found
        return replace(run, data=data, anomaly=anomaly, wrong=wrong)

    def _judge(self, run: Run) -> tuple[DataVerdict, Anomaly | None, Wrong | None]:
        committed = run.observed.committed
        known = 0
        wrong: Wrong = "rows"
        connections = self.stage.scenario.connections.values()
        lanes = lanes_of(committed, connections)
        for order in serial_orders(committed, lanes):
            serial = self.serially(order)
            if serial is not None:
                known += 1
                if serial.key == run.observed.key:
                    return "serial", None, None
                if serial.end == run.observed.end:
                    wrong = "reads"
        if count_of_orders(lanes) > MOST_ORDERS:
            return "unchecked", None, None  # one of the orders that were not run may give it
        if self._left_traces(run, committed):
            return "unchecked", None, None
        lost = [one for one in run.lost if one.transaction in committed]
        if lost:
            names = tuple(dict.fromkeys(one.transaction for one in lost))
            evidence = tuple(map(str, lost))
            return (
                "anomaly",
                Anomaly(name="partial commit", transactions=names, evidence=evidence),
                wrong,
            )
        if not known:
            never = Anomaly(
                name="other anomaly", transactions=committed, evidence=(_never_both(committed),)
            )
            return "anomaly", never, "rows"
        wrote = [
            name for name, status in run.status.items() if status not in ("committed", "not begun")
        ]
        if any(transaction_of(one) != one for one in committed):
            text = f"no order of {listed(sorted(committed))} gives the same"
            other = Anomaly(name="other anomaly", transactions=committed, evidence=(text,))
            return "anomaly", other, wrong
        return (
            "anomaly",
            name_anomaly(run.observed, self.serially, self.stage.dependence, wrote),
            wrong,
        )

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
