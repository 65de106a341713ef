"""A page to hand over, of one result or of several."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Literal

from catenum.api.files import save_atomically
from catenum.api.results import (
    Saved,
    SavedChurn,
    SavedExploration,
    SavedStore,
    SavedValue,
    saved_below,
)
from catenum.core.compare.churn_result import ChurnResult
from catenum.core.compare.churn_result import to_plain as churn_value
from catenum.core.compare.trial import Trial
from catenum.core.document import comparison, exploration, load, recording
from catenum.core.document.blocks import Document
from catenum.core.document.detail import DETAILS, Detail
from catenum.core.document.masking import Masker
from catenum.core.document.store import document_of_store
from catenum.core.errors import InputError
from catenum.core.pace.results import PaceResult
from catenum.core.propose.proposals import Proposals
from catenum.core.record.recording import Recording
from catenum.core.space.exploration import Exploration
from catenum.engines import clock
from catenum.engines.targets import without_secrets
from catenum.render.html.page import page, without_figures
from catenum.render.markdown import markdown
from catenum.render.propose import proposals_value
from catenum.store.handover import handover_value
from catenum.store.places import place_of
from catenum.store.spans import Span
from catenum.store.store import reader

Form = Literal["html", "markdown"]
Source = str | Path | Recording | Exploration | Trial | Proposals | ChurnResult | PaceResult
#: The largest page.
MOST_BYTES = 5_000_000
Found = tuple[str, Saved]


def report(
    *sources: Source,
    output: str | Path | None = None,
    form: Form = "html",
    title: str | None = None,
    mask: bool = False,
    pick: int | None = None,
    since: str | None = None,
    until: str | None = None,
) -> str:
    """One self-contained page (or Markdown) of results, as they are or as they were saved.

    ``output``: the file to write; ``mask``: without the values of statements and rows; ``pick``: of
    a server's log, which conflict; ``since``, ``until``: of a watch's store. What is too much for
    5 MB is left out, and the page says what. Raises InputError, SaveError.
    """
    if not sources:
        raise InputError("there is nothing to make a report of")
    _refuse_overwriting(sources, output)
    found = [one for source in sources for one in _saved(source, pick)]
    text = _fitting(found, _Builder(mask, Span(since, until)), form, title)
    if output is not None:
        save_atomically(Path(output), text.encode())
    return text


def _refuse_overwriting(sources: Sequence[Source], output: str | Path | None) -> None:
    """Raises InputError where a source would be lost."""
    paths = [Path(source).resolve() for source in sources if isinstance(source, str | Path)]
    if output is not None and Path(output).resolve() in paths:
        raise InputError(f"{output} is one of the sources", advice="Write to another file.")


def _saved(source: Source, pick: int | None) -> list[Found]:
    if isinstance(source, str) and "://" in source:
        return [(without_secrets(source), SavedStore(place_of(source)))]
    if isinstance(source, str | Path):
        return saved_below(Path(source), pick=pick)
    return [_given(source)]


def _given(source: Recording | Exploration | Trial | Proposals | ChurnResult | PaceResult) -> Found:
    if isinstance(source, Exploration):
        return source.scenario, SavedExploration(source)
    if isinstance(source, Proposals):
        # recordings as they are: what is saved of them is read back by the format
        value = {**proposals_value(source), "before": source.before, "after": source.after}
        return source.explored.scenario, SavedValue("proposal", value)
    if isinstance(source, ChurnResult):
        recordings = tuple(kind.recording for kind in source.deadlocks)
        return source.scenario, SavedChurn(churn_value(source), recordings)
    return source.scenario, source


def _fitting(found: Sequence[Found], builder: _Builder, form: Form, title: str | None) -> str:
    """With as much as fits."""
    text = ""
    for number, detail in enumerate(DETAILS):
        documents = [document for one in found for document in builder.documents(one, detail)]
        left_out = _left_out(detail) if number else []
        made = clock.moment().strftime("%Y-%m-%d %H:%M UTC")
        if form == "markdown":
            text = markdown(documents, made=made, left_out=left_out)
        else:
            name = title or (documents[0].title if len(documents) == 1 else "Report")
            text = page(documents, title=name, made=made, left_out=left_out)
        if len(text.encode()) <= MOST_BYTES:
            return text
    raise InputError(
        f"the report would have {len(text.encode()):,} bytes, and may have {MOST_BYTES:,}",
        advice="Give it fewer sources.",
    )


def _left_out(detail: Detail) -> list[str]:
    parts = [
        f"moves beyond the first {detail.moves}" if detail.moves else "all moves",
        f"rows beyond the first {detail.rows} of a table" if detail.rows else "all rows",
        f"texts beyond {detail.letters:,} characters",
        f"recordings of outcomes beyond {detail.recordings}",
    ]
    if not detail.figures:
        parts.append("the drawings")
    return [f"Left out, to keep this page below 5 MB: {', '.join(parts)}."]


class _Builder:
    """Makes documents of results, masked where that is asked for."""

    def __init__(self, mask: bool, span: Span) -> None:
        self._masker = Masker() if mask else None
        self._span = span

    def documents(self, found: Found, detail: Detail) -> Iterator[Document]:
        name, saved = found
        for document in self._made(name, saved, detail):
            kept = document if detail.figures else without_figures(document)
            yield self._masker.document(kept) if self._masker is not None else kept

    def _made(self, name: str, saved: Saved, detail: Detail) -> Iterator[Document]:
        match saved:
            case Recording():
                yield recording.document_of(self._recording(saved), detail)
            case SavedExploration():
                recordings = {
                    letter: self._recording(one) for letter, one in saved.recordings.items()
                }
                whole = saved.exploration
                masked = self._masker.exploration(whole) if self._masker else whole
                yield exploration.document_of(masked, recordings, detail)
            case Trial():
                masked_trial = self._masker.trial(saved) if self._masker else saved
                yield comparison.document_of_trial(masked_trial, detail)
            case SavedChurn():
                recordings_of = [self._recording(one) for one in saved.recordings]
                yield load.document_of_churn(saved.value, recordings_of, detail)
            case PaceResult():
                yield load.document_of_pace(saved, detail)
            case SavedStore():
                yield self._store(name, saved)
            case SavedValue():
                yield from self._value(saved, detail)

    def _recording(self, found: Recording) -> Recording:
        return self._masker.recording(found) if self._masker is not None else found

    def _value(self, saved: SavedValue, detail: Detail) -> Iterator[Document]:
        value = saved.value
        if saved.name == "orders":
            for one in value["orders"]:
                title = f"{value['scenario']}: {one['name']}"
                found = self._recording(one["recording"])
                yield recording.document_of(found, detail, title=title)
        elif saved.name == "contest":
            yield comparison.document_of_contest(value)
        else:
            if self._masker is not None:
                value = self._masker.value(value, value["target"]["server"])
            yield comparison.document_of_proposal(value, detail)

    def _store(self, name: str, saved: SavedStore) -> Document:
        store = reader(saved.place)
        try:
            value = handover_value(store, self._span)
        finally:
            store.close()
        if self._masker is not None:
            raise InputError(
                f"{name}: --mask cannot be applied to a store afterwards",
                advice="'catenum watch --mask' leaves the values out of what it stores.",
            )
        return document_of_store(name, value)
