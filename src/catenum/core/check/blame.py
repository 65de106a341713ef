"""Which statements of a scenario have a part in what is not as expected."""

from __future__ import annotations

from collections.abc import Iterator

from catenum.core.check.result import Blame
from catenum.core.record.recording import Recording
from catenum.core.scenario.reader import ScenarioFile
from catenum.core.text import one_line


def blamed(file: ScenarioFile, recording: Recording) -> Iterator[Blame]:
    """The statements of a deadlock, those that failed, or those that a finding names; else the last
    one of each transaction.
    """
    named: dict[tuple[str, int], str] = {}
    for deadlock in recording.deadlocks:
        for one in deadlock.members:
            if one.statement is not None:
                what = f"waits for {one.waits_for} over {one.resource.text}"
                named.setdefault((one.transaction, one.statement), what)
    for event in recording.events:
        if event.what == "failed" and event.error is not None and event.statement is not None:
            named.setdefault((event.transaction, event.statement), event.error.message)
    for finding in recording.findings:
        for ref in finding.statements:
            named.setdefault((ref.transaction, ref.statement), finding.title)
    if not named:
        for record in recording.transactions:
            named[record.name, len(record.statements)] = one_line(record.statements[-1])
    for (name, number), text in named.items():
        place = file.place("transactions", name, "statements", number - 1)
        yield Blame(place=place, text=f"{name} {number}: {text}")
