"""Trials as JSON (``"format": "catenum-trial/1"``), written and read back."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from catenum.core.compare.trial import Trial, Variant
from catenum.core.compare.verdict import Figures, Verdict
from catenum.core.record.recording_file import to_plain as recording_value
from catenum.core.space.exploration_file import exploration_of
from catenum.core.space.exploration_file import to_plain as exploration_value

FORMAT = "catenum-trial/1"


def to_plain(trial: Trial) -> dict[str, Any]:
    """The trial as plain values, with a recording of every run."""
    return {
        "format": FORMAT,
        "scenario": trial.scenario,
        "orders": [" ".join(order) for order in trial.orders],
        "data_checked": not trial.unchecked,
        "variants": [
            {
                "name": variant.name,
                "changes": list(variant.changes),
                "outcomes": variant.figures.kinds,
                "waits": variant.figures.waits,
                "longest_chain": variant.figures.longest_chain,
                "locks_taken": variant.figures.locks,
                "attempts": variant.figures.attempts,
                "median_ms": round(variant.figures.time_ms, 3),
                "rules_broken": list(variant.figures.broken),
                "verdict": variant.verdict.rank if variant.verdict else None,
                "reason": variant.verdict.reason if variant.verdict else None,
                "runs": variant.figures.runs,
                "anomalies": variant.figures.anomalies,
                "complete": variant.figures.complete,
                "exploration": exploration_value(variant.explored) if variant.explored else None,
                "recordings": [recording_value(run) for run in variant.runs],
            }
            for variant in trial.variants
        ],
        "best": trial.winners[0].name if trial.winners else None,
    }


def trial_of(value: Mapping[str, Any]) -> Trial:
    """The trial in such a value, as ``core.formats.read`` gives it."""
    return Trial(
        scenario=value["scenario"],
        orders=tuple(tuple(order.split()) for order in value["orders"]),
        variants=tuple(_variant(one) for one in value["variants"]),
        unchecked=not value["data_checked"],
    )


def _variant(value: Mapping[str, Any]) -> Variant:
    figures = Figures(
        runs=value["runs"],
        kinds=value["outcomes"],
        waits=value["waits"],
        longest_chain=value["longest_chain"],
        locks=value["locks_taken"],
        time_ms=value["median_ms"],
        broken=tuple(value["rules_broken"]),
        ended_well=0,  # what a verdict was made of; the file has the verdict
        attempts=value["attempts"],
        anomalies=value["anomalies"],
        complete=value["complete"],
    )
    rank, explored = value["verdict"], value["exploration"]
    return Variant(
        name=value["name"],
        changes=tuple(value["changes"]),
        runs=tuple(value["recordings"]),
        figures=figures,
        verdict=Verdict(rank=rank, reason=value["reason"] or "") if rank is not None else None,
        explored=exploration_of(explored) if explored is not None else None,
    )
