"""Indexes that findings propose, made on the run's own data and taken back: what the server refuses
is not proposed.
"""

from __future__ import annotations

import re
from dataclasses import replace

from catenum.core.record.recording import Finding, Recording
from catenum.engines.ports import Engine

_INDEX = re.compile(r"create index .*;", re.DOTALL)
_HOW_TO_TRY = "To try it: a remedy with index."


def with_indexes_tried(recording: Recording, engine: Engine) -> Recording:
    """The recording, its findings without DDL that the server does not take."""
    return replace(
        recording, findings=tuple(_tried(finding, engine) for finding in recording.findings)
    )


def _tried(finding: Finding, engine: Engine) -> Finding:
    refused = {
        line: why
        for line in finding.advice
        if _INDEX.fullmatch(line) and (why := engine.refuses(line[:-1]))
    }
    if not refused:
        return finding
    reported = [
        f"An index would serve it, but the server refuses {line[:-1]}: {refused[line]}"
        if line in refused
        else line
        for line in finding.advice
    ]
    none_left = not any(_INDEX.fullmatch(line) for line in reported)
    return replace(
        finding, advice=tuple(line for line in reported if not (none_left and line == _HOW_TO_TRY))
    )
