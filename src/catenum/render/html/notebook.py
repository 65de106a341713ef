"""What a notebook shows of a result, by the same parts as a report."""

from __future__ import annotations

from dataclasses import replace

from catenum.core.check.result import CheckResult
from catenum.core.compare.churn_result import ChurnResult
from catenum.core.compare.churn_result import to_plain as churn_value
from catenum.core.compare.trial import Trial
from catenum.core.document import comparison, exploration, load, recording
from catenum.core.document.blocks import Block, Document, Figure, Part, Table
from catenum.core.document.detail import Detail
from catenum.core.levels.matrix import Matrix
from catenum.core.levels.need import Need
from catenum.core.pace.results import PaceResult
from catenum.core.propose.proposals import Proposals
from catenum.core.record.recording import Recording
from catenum.core.space.exploration import Exploration
from catenum.render.html.page import fragment
from catenum.render.propose import proposals_value

#: A notebook's cell has room for pictures and tables, not for each move.
DETAIL = Detail(moves=0, rows=10, letters=1_000, recordings=0, figures=True)


def html_of(result: object) -> str | None:
    """A result as HTML; None where it has no form of its own."""
    found = _document(result)
    return fragment(_shortened(found)) if found is not None else None


def _document(result: object) -> Document | None:
    match result:
        case Recording():
            return recording.document_of(result, DETAIL)
        case Exploration():
            return exploration.document_of(result, {}, DETAIL)
        case Trial():
            return comparison.document_of_trial(result, DETAIL)
        case Proposals():
            return comparison.document_of_proposal(proposals_value(result), DETAIL)
        case ChurnResult():
            return load.document_of_churn(churn_value(result), (), DETAIL)
        case PaceResult():
            return load.document_of_pace(result, DETAIL)
        case CheckResult():
            return _checks(result)
        case Matrix():
            return _matrix(result)
        case Need():
            return _need(result)
    return None


def _shortened(document: Document) -> Document:
    """Pictures, tables and what is proven: the rest is for a page."""

    def kept(block: Block) -> bool:
        return isinstance(block, Figure | Table)

    wanted = ("What is proven, and what is not", "The cause, and what would help")
    parts = []
    for part in document.parts:
        blocks = part.blocks if part.title in wanted else tuple(filter(kept, part.blocks))
        if blocks and part.title != "How to run it again":
            parts.append(Part(part.title, blocks))
    return replace(document, parts=tuple(parts))


def _checks(result: CheckResult) -> Document:
    counts = ", ".join(f"{count} {status}" for status, count in result.counts().items())
    rows = tuple(
        (case.scenario, case.title, case.server, case.status, "; ".join(case.problems))
        for case in result.cases
    )
    bad = tuple((n, "bad") for n, case in enumerate(result.cases) if case in result.failed)
    return Document(
        title="Checks",
        summary=((counts or "There was nothing to check.", "good" if result.passed else "bad"),),
        parts=(
            Part(
                "Cases",
                (
                    Table(
                        head=("scenario", "check", "server", "status", "what is not so"),
                        rows=rows,
                        marked=bad,  # type: ignore[arg-type] # tones
                    ),
                ),
            ),
        ),
    )


def _matrix(matrix: Matrix) -> Document:
    found = {(cell.probe, cell.level): cell for cell in matrix.cells}
    probes = list(dict.fromkeys(cell.probe for cell in matrix.cells))
    rows = tuple(
        (probe, *(found[probe, level].result for level in matrix.levels)) for probe in probes
    )
    return Document(
        title="What each isolation level prevents",
        summary=((f"{matrix.server} {matrix.version}", "plain"),),
        parts=(Part("By level", (Table(head=("", *matrix.levels), rows=rows),)),),
    )


def _need(need: Need) -> Document:
    rows = tuple((name, level or "none is enough") for name, level in need.each.items())
    return Document(
        title=f"{need.scenario}: the level that it needs",
        summary=((f"All transactions at {need.uniform or 'none is enough'}.", "plain"),),
        parts=(Part("Each", (Table(head=("transaction", "least strict level"), rows=rows),)),),
    )
