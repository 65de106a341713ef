"""Trials and proposals as documents: what was tried, what each came to, before and after."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from catenum.core.compare.trial import Trial, Variant
from catenum.core.compare.verdict import SERIAL
from catenum.core.document.blocks import (
    Block,
    Bullets,
    Code,
    Details,
    Document,
    Paragraph,
    Part,
    Table,
    Tone,
)
from catenum.core.document.detail import Detail
from catenum.core.document.exploration import sentence
from catenum.core.document.recording import facts_of, stepper, versions
from catenum.core.record.outcome import KINDS
from catenum.core.record.recording import Recording
from catenum.core.scenario.writing import as_text
from catenum.core.space.claims import claims
from catenum.core.text import counted

_RANKS: dict[str, Tone] = {"cures": "good", "worse": "bad", "loses": "bad"}
_HEAD = ("", "runs", "outcomes", "waits", "longest chain", "data", "verdict")


def outcomes_text(kinds: Mapping[Any, int]) -> str:
    """How often each outcome came, the worst first."""
    return ", ".join(f"{kind} {kinds[kind]}" for kind in reversed(KINDS) if kind in kinds)


# -- trials ----------------------------------------------------------------------------------------


def document_of_trial(trial: Trial, detail: Detail) -> Document:
    """The baseline and each remedy."""
    first = next(iter(trial.baseline.runs), None)
    return Document(
        title=f"{trial.scenario}: remedies tried",
        summary=tuple(trial_summary(trial)),
        facts=tuple(fact for fact in facts_of(first) if fact[0] != "Outcome") if first else (),
        parts=tuple(_trial_parts(trial, detail)),
        standin=first.target.standin if first is not None else False,
    )


def trial_summary(trial: Trial) -> Iterator[tuple[str, Tone]]:
    """What it comes to as it is, and which remedy is best."""
    base = trial.baseline.figures
    yield _as_it_is(base.kinds, counted(base.runs, "run"), base.anomalies, base.broken), "bad"
    winners = trial.winners
    if not winners:
        tried = len(trial.variants) - 1
        none = "The one remedy does not win." if tried == 1 else f"None of {tried} remedies wins."
        yield none, "bad"
        return
    best = winners[0]
    whole = "" if best.explored is None or best.figures.complete else " (a sample was run)"
    yield f"Best: {best.name}{whole}.", "good"
    if best.verdict is not None:
        yield sentence(best.verdict.reason.rstrip(".")), "plain"


def _as_it_is(kinds: Mapping[Any, int], runs: str, wrong: int, broken: Sequence[str]) -> str:
    """What the scenario comes to without any change: outcomes, and whether the data is right."""
    data = f"; the data is wrong in {wrong:,} of them" if wrong else ""
    false = [rule for rule in broken if rule != SERIAL]
    rules = f"; rules that are false then: {', '.join(false)}" if false else ""
    return f"As it is: {outcomes_text(kinds)}, in {runs}{data}{rules}."


def _trial_parts(trial: Trial, detail: Detail) -> Iterator[Part]:
    yield Part("What was tried", (_trial_table(trial),))
    best = trial.winners[0] if trial.winners else None
    if best is not None and trial.baseline.runs and best.runs:
        yield Part(
            f"Before and after: {best.name}",
            (
                Paragraph("The same schedule as it is, and with the remedy, in step."),
                stepper([("as it is", trial.baseline.runs[0]), (best.name, best.runs[0])], detail),
            ),
        )
    yield Part("Each remedy", tuple(_remedies(trial)))
    first = next(iter(trial.baseline.runs), None)
    if first is not None and first.definition is not None:
        blocks: tuple[Block, ...] = (
            Paragraph(
                "Save the scenario below as scenario.yaml and add the remedies under 'remedies:'."
            ),
            Code("catenum trial scenario.yaml", "shell"),
            Code(as_text(first.definition), "yaml"),
            versions(first),
        )
        yield Part("How to run it again", blocks)


def _trial_table(trial: Trial) -> Table:
    return Table(
        head=_HEAD,
        rows=tuple(_variant_row(variant) for variant in trial.variants),
        numbers=(1, 3, 4),
        marked=tuple(
            (number, _RANKS[variant.verdict.rank])
            for number, variant in enumerate(trial.variants)
            if variant.verdict is not None and variant.verdict.rank in _RANKS
        ),
    )


def _variant_row(variant: Variant) -> tuple[str, ...]:
    numbers = variant.figures
    wrong = f"WRONG {numbers.anomalies}" if numbers.anomalies else ""
    unchecked = variant.explored is None and not any(run.outcome.holds for run in variant.runs)
    data = wrong or ("rule broken" if numbers.broken else "not checked" if unchecked else "right")
    return (
        variant.name,
        f"{numbers.runs:,}",
        outcomes_text(numbers.kinds),
        str(numbers.waits),
        str(numbers.longest_chain),
        data,
        variant.verdict.rank if variant.verdict is not None else "",
    )


def _remedies(trial: Trial) -> Iterator[Block]:
    for variant in trial.variants[1:]:
        if variant.verdict is None:
            continue
        yield Paragraph(f"{variant.name}: {variant.verdict.rank}", "strong")
        lines: list[tuple[str, Tone, int]] = [
            (variant.verdict.reason, _RANKS.get(variant.verdict.rank, "plain"), 0)
        ]
        if variant.explored is not None:
            lines += [(sentence(claim.text), "plain", 0) for claim in claims(variant.explored)]
        lines += [(change, "faint", 0) for change in variant.changes]
        yield Bullets(tuple(lines))


# -- remedies under load ---------------------------------------------------------------------------


def document_of_contest(value: Mapping[str, Any]) -> Document:
    """``catenum-contest/1``: the baseline and each remedy in loops."""
    variants: Sequence[Any] = value["variants"]
    best = value["best"]
    rows = tuple(
        (
            str(one.name),
            f"{one.iterations:,}",
            f"{one.per_second.value:,.0f}",
            str(one.deadlocks),
            one.verdict.rank if one.verdict is not None else "",
        )
        for one in variants
    )
    reasons = tuple(
        (f"{one.name}: {one.verdict.reason}", _RANKS.get(one.verdict.rank, "plain"), 0)
        for one in variants
        if one.verdict is not None
    )
    return Document(
        title=f"{value['scenario']}: remedies under load",
        summary=(contest_summary(best),),
        parts=(
            Part(
                "What was tried, in loops",
                (
                    Table(
                        head=("", "iterations", "iterations/s", "deadlocks", "verdict"),
                        rows=rows,
                        numbers=(1, 2),
                    ),
                    Bullets(reasons),
                ),
            ),
        ),
    )


def contest_summary(best: str | None) -> tuple[str, Tone]:
    """Which remedy is best under load."""
    if best is None:
        return "No remedy wins under load.", "bad"
    return f"Best under load: {best}.", "good"


# -- proposals -------------------------------------------------------------------------------------


def document_of_proposal(value: Mapping[str, Any], detail: Detail) -> Document:
    """``catenum-proposal/1``: changes that were derived, tried and ranked."""
    server = value["target"]
    return Document(
        title=f"{value['scenario']}: changes derived and tried",
        summary=tuple(proposal_summary(value)),
        facts=(("Server", f"{server['server']} {server['version']} ({server['url']})"),),
        parts=tuple(_proposal_parts(value, detail)),
    )


def proposal_summary(value: Mapping[str, Any]) -> Iterator[tuple[str, Tone]]:
    """What it comes to as it is, and which change is first."""
    base = value["baseline"]
    runs = counted(base["schedules"], "schedule")
    said = _as_it_is(base["outcomes"], runs, base["anomalies"], base["rules_broken"])
    yield said, "bad" if value["conflict"] else "good"
    cures = [one for one in value["candidates"] if one["verdict"] == "cures"]
    if not cures:
        tried = counted(len(value["candidates"]), "change")
        yield (
            (f"None of {tried} cures it.", "bad")
            if value["conflict"]
            else ("There is nothing to cure.", "good")
        )
        return
    first = cures[0]
    proven = "proven" if first["proven"] else "NOT proven: not every schedule was run"
    yield f"First of {counted(len(cures), 'cure')}: {first['name']} ({proven}).", "good"
    if value["why_first"]:
        yield sentence(str(value["why_first"]).rstrip(".")), "plain"


def _proposal_parts(value: Mapping[str, Any], detail: Detail) -> Iterator[Part]:
    candidates = value["candidates"]
    yield Part(
        "What was tried",
        (
            Table(
                head=("", "change", "kind", *_HEAD[1:5], "proven", "verdict"),
                rows=tuple(_candidate_row(one) for one in candidates),
                numbers=(0, 3, 5, 6),
                marked=tuple(
                    (number, _RANKS[one["verdict"]])
                    for number, one in enumerate(candidates)
                    if one["verdict"] in _RANKS
                ),
                links=tuple(
                    (number, f"change-{one['rank']}") for number, one in enumerate(candidates)
                ),
            ),
        ),
    )
    before, after = value.get("before"), value.get("after")
    cures = [str(one["name"]) for one in candidates if one["verdict"] == "cures"]
    if isinstance(before, Recording) and isinstance(after, Recording) and cures:
        name = cures[0]
        yield Part(
            f"Before and after: {name}",
            (
                Paragraph("The same schedule as it is, and with the change, in step."),
                stepper([("as it is", before), (name, after)], detail),
            ),
        )
    yield Part("Each change", tuple(_candidate(one, detail) for one in candidates))
    if value["dropped"] or value["left_alone"]:
        lines = [(f"{one['name']}: {one['why']}", "faint", 0) for one in value["dropped"]]
        lines += [(text, "faint", 0) for text in value["left_alone"]]
        yield Part("Not tried", (Bullets(tuple(lines)),))  # type: ignore[arg-type] # tones
    if isinstance(before, Recording) and before.definition is not None:
        yield Part(
            "How to run it again",
            (
                Code("catenum propose scenario.yaml", "shell"),
                Code(as_text(before.definition), "yaml"),
                versions(before),
            ),
        )


def _candidate_row(one: Mapping[str, Any]) -> tuple[str, ...]:
    cost = one["cost"]
    return (
        str(one["rank"]),
        one["name"],
        one["kind"],
        f"{cost['schedules']:,}",
        outcomes_text(cost["outcomes"]),
        str(cost["waits"]),
        str(cost["longest_chain"]),
        "yes" if one["proven"] else "no",
        one["verdict"],
    )


def _candidate(one: Mapping[str, Any], detail: Detail) -> Details:
    lines: list[tuple[str, Tone, int]] = [(one["reason"], _RANKS.get(one["verdict"], "plain"), 0)]
    groups: tuple[tuple[str, Tone, Sequence[str]], ...] = (
        ("because", "plain", one["because"]),
        ("means", "plain", one["means"]),
        ("only for these values", "bad", one["these_values_only"]),
        ("does not cure", "bad", one["does_not_cure"]),
        ("harms", "bad", one["harms"]),
        ("on other data", "plain", one["other_data"]),
    )
    lines += [(f"{word}: {text}", tone, 0) for word, tone, texts in groups for text in texts]
    blocks: list[Block] = [Bullets(tuple(lines))]
    sql = [*one["ddl"], *one["statements"]]
    if sql:
        blocks.append(Code(detail.cut("\n".join(sql)), "diff" if one["statements"] else "sql"))
    return Details(
        title=f"{one['rank']}  {one['name']}: {one['verdict']}",
        anchor=f"change-{one['rank']}",
        blocks=tuple(blocks),
    )
