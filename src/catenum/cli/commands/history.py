"""``catenum history``: what a watch has seen."""

from __future__ import annotations

import argparse
import contextlib
import csv
import json
import shlex
from collections.abc import Mapping, Sequence
from dataclasses import asdict
from pathlib import Path
from typing import IO, Any

from catenum.api import files
from catenum.api.history import History, as_stored
from catenum.cli import common, watching
from catenum.cli.exits import ExitCode
from catenum.cli.progress import Reporter
from catenum.core.errors import InputError, TargetError
from catenum.core.record.recording_file import to_json
from catenum.core.report.recording_story import tell
from catenum.core.servers import rules_of
from catenum.core.text import counted, harmless
from catenum.intake.conflicts import conflicts_in
from catenum.intake.files import sources
from catenum.render.console import say
from catenum.render.handover import handover
from catenum.render.history import (
    print_grouped,
    print_incident,
    print_incidents,
    print_pairs,
    print_releases,
    print_totals,
)
from catenum.render.text import print_story
from catenum.store import queries
from catenum.store.copying import copy
from catenum.store.handover import handover_value
from catenum.store.log_rows import take
from catenum.store.places import place_of, without_password
from catenum.store.spans import Span
from catenum.store.store import Store, reader, writer_beside

FORMAT = "catenum-history/1"
WORDS = ("list", "show", "note", "deadlocks", "releases", "report", "take", "copy")


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``history``."""
    parser.add_argument(
        "words",
        nargs="*",
        metavar="WORD",
        help=(
            "nothing: the summary; list; deadlocks; releases; report (to hand over); show ID; note"
            " ID TEXT; take FILE (a server's log, of the time before a watch); copy FROM TO"
        ),
    )
    parser.add_argument(
        "--store", metavar="PLACE", help="the store to read (default: in your data folder)"
    )
    common.add_since_options(parser, "what was seen")
    parser.add_argument(
        "--server", metavar="NAME", help="one of several servers, as watch called it"
    )
    parser.add_argument("--by", choices=queries.BYS, help="one table only, by this")
    parser.add_argument(
        "--chart",
        metavar="FILE",
        type=Path,
        help="draw waiting over time, and a calendar, as PNG or SVG",
    )
    parser.add_argument("--markdown", action="store_true", help="with report: write it as Markdown")
    parser.add_argument(
        "--zone", metavar="ZONE", help="with take: the zone of times that name none, such as UTC"
    )
    parser.add_argument(
        "--mask", action="store_true", help="with take: leave literals out of what is stored"
    )
    parser.add_argument(
        "--csv", action="store_true", help="write the table (default: by statement) as CSV"
    )
    parser.add_argument(
        "-o",
        "--save",
        metavar="FILE",
        type=Path,
        help="with show: write the recording, for explain and draw",
    )
    parser.add_argument(
        "--target", metavar="TARGET", help="ask this server how often the statements run"
    )
    common.add_output_options(parser)


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Read and show."""
    words = list(args.words)
    if words and words[0] not in WORDS:
        raise InputError(f"history knows no {words[0]!r}", advice=f"It knows: {', '.join(WORDS)}.")
    if words[:1] == ["copy"]:
        return _copy(words[1:], args, out, err)
    path = common.store_place(args, err)
    store = writer_beside(path) if words[:1] == ["take"] else reader(path)
    try:
        since, until = (as_stored(when) for when in common.since_and_until(args))
        asked = History(store, Span(since, until, args.server))
        if words[:1] == ["note"]:
            return _note(store, words[1:], out, args)
        if words[:1] == ["take"]:
            return _take(store, words[1:], args, out, err)
        if words[:1] == ["show"]:
            return _show(store, words[1:], args, out)
        if args.chart:
            _chart(asked, args.chart)
            out.write(f"{args.chart}\n")
            return ExitCode.OK
        if words[:1] == ["list"]:
            rows = asked.incidents()
            if args.json:
                rows = [{**row, "rates": queries.rates_around(store, row["id"])} for row in rows]
            return _table(args, out, "incidents", rows)
        if words[:1] == ["deadlocks"]:
            return _table(args, out, "deadlocks", asked.deadlocks())
        if words[:1] == ["releases"]:
            return _table(args, out, "releases", asked.releases())
        if words[:1] == ["report"]:
            return _report(store, asked.span, args, out)
        return _summary(asked, args, out, err)
    finally:
        store.close()


def _copy(words: list[str], args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """A store moved to another place."""
    if len(words) != 2:
        raise InputError(
            "copy takes two stores: history copy FROM TO",
            advice="Each is a file or the URL of a PostgreSQL database: postgresql://…",
        )
    listener = Reporter(err, quiet=args.quiet)
    places = [place_of(word) for word in words]
    for place in places:
        common.warn_of_password(place, "its URL", err)
    with (
        contextlib.closing(reader(places[0])) as source,
        contextlib.closing(writer_beside(places[1])) as target,
    ):
        try:
            done = copy(source, target, listener.steps)
        finally:
            listener.clear()
        if args.json:
            out.write(json.dumps({"from": source.shown, "to": target.shown, "rows": done}) + "\n")
        elif not args.quiet:
            rows = sum(done.values())
            incidents, servers = (
                counted(done["incident"], "incident"),
                counted(done["server"], "server"),
            )
            out.write(f"{rows:,} rows copied to {target.shown}: {incidents} of {servers}\n")
    return ExitCode.OK


def _report(store: Store, span: Span, args: argparse.Namespace, out: IO[str]) -> ExitCode:
    value = handover_value(store, span)
    if args.json:
        out.write(json.dumps({"format": FORMAT, **value}, indent=2) + "\n")
    else:
        out.write(harmless(handover(value, markdown=args.markdown)))
    return ExitCode.OK


def _number(words: list[str]) -> int:
    if not words or not words[0].isdecimal():
        raise InputError("which incident? 'catenum history list' shows the numbers")
    return int(words[0])


def _note(store: Store, words: list[str], out: IO[str], args: argparse.Namespace) -> ExitCode:
    number, text = _number(words), " ".join(words[1:])
    if not text:
        raise InputError("a note needs a text: catenum history note ID 'text'")
    store.note(number, text)
    if not args.quiet:
        out.write(f"Noted on incident {number}.\n")
    return ExitCode.OK


def _show(store: Store, words: list[str], args: argparse.Namespace, out: IO[str]) -> ExitCode:
    number = _number(words)
    reported = queries.incident(store, number)
    reported["rates"] = queries.rates_around(store, number)
    if args.chart:
        _rate_chart(reported, args.chart)
        out.write(f"{args.chart}\n")
        return ExitCode.OK
    recording = (
        store.recording(number) if reported["source"] == "watch" or args.save or args.json else None
    )
    if args.save and recording is not None:
        files.check_writable(args.save)
        files.save_atomically(args.save, to_json(recording).encode())
    if args.json and recording is not None:
        out.write(to_json(recording) + "\n")
    elif not args.quiet:
        console = common.console_for(args, out)
        print_incident(console, reported)
        if recording is not None:
            say(console)
            say(console, "Its worst moment, as a check saw it", style="bold")
            say(console)
            print_story(console, tell(recording))
    return ExitCode.OK


def _take(
    store: Store, words: list[str], args: argparse.Namespace, out: IO[str], err: IO[str]
) -> ExitCode:
    """Take logs in: what happened when no watch ran."""
    if not words:
        raise InputError("which log? catenum history take FILE... --server NAME")
    if args.server is None:
        raise InputError("whose log is this? Name the server with --server, as watch calls it")
    found = sources(words)
    kind = found[0].server
    known_as = store.kind_of(args.server)
    if known_as not in (None, kind):
        wrong = (
            f"{found[0].name} reads like a log of {rules_of(kind).title}; {args.server} is"
            f" {known_as}"
        )
        raise InputError(wrong, advice="Name its server with --server.")

    def warn(text: str) -> None:
        if not args.quiet:
            err.write(f"catenum: {text}\n")

    conflicts = conflicts_in(found, warn=warn)
    taken = take(
        store, args.server, kind, conflicts, zone=common.zone_argument(args.zone), mask=args.mask
    )
    if args.json:
        out.write(json.dumps({"format": FORMAT, **asdict(taken)}) + "\n")
    elif not args.quiet:
        known = f"; {taken.known} were known already" if taken.known else ""
        out.write(
            f"{taken.incidents} incidents and {taken.deadlocks} deadlocks were taken from the"
            f" log{known}.\n"
        )
    return ExitCode.OK


def _summary(asked: History, args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    by: queries.By = args.by or "statement"
    rows = asked.groups(by)
    if args.target and by == "statement":
        rows = _with_rates(rows, args.target, err)
    if args.csv:
        return _csv(out, rows)
    reported = asked.totals()
    if args.json:
        value = {"format": FORMAT, **reported, "by": by, "groups": rows, "pairs": asked.pairs()}
        out.write(json.dumps(value, indent=2) + "\n")
        return ExitCode.OK
    console = common.console_for(args, out)
    print_totals(console, reported)
    if args.quiet:
        return ExitCode.OK
    place = without_password(args.store) if args.store else str(asked.store.shown)
    store_option = f" --store {shlex.quote(place)}" if args.store else ""
    commands = (
        f"catenum history{store_option} list   (the incidents, with their numbers)",
        f"catenum report {shlex.quote(place)} -o history.html",
    )
    if args.brief:
        common.say_next(console, *commands)
        return ExitCode.OK
    print_grouped(
        console, f"By {by} of the head blocker" if by == "statement" else f"By {by}", by, rows
    )
    if args.by is None:
        print_pairs(console, asked.pairs())
        others: tuple[queries.By, ...] = ("object", "application")
        for other in others:
            print_grouped(console, f"By {other}", other, asked.groups(other), most=6)
        print_incidents(console, asked.incidents(5))
    say(console)
    common.say_next(console, *commands)
    return ExitCode.OK


def _with_rates(rows: list[dict[str, Any]], target: str, err: IO[str]) -> list[dict[str, Any]]:
    try:
        with watching.monitor_for(target, err) as monitor:
            rates, server = monitor.rates(), monitor.info.server
    except TargetError as error:
        err.write(f"catenum: {error.problems[0].message}; shown without how often statements run\n")
        return rows
    if rates is None:
        err.write(
            "catenum: the server has no statement statistics: 'catenum preflight' shows how to turn"
            " them on\n"
        )
        return rows
    return queries.with_rates(rows, rates, server)


def _table(
    args: argparse.Namespace, out: IO[str], what: str, rows: Sequence[Mapping[str, Any]]
) -> ExitCode:
    if args.csv:
        return _csv(out, rows)
    if args.json:
        out.write(json.dumps({"format": FORMAT, what: rows}, indent=2) + "\n")
        return ExitCode.OK
    console = common.console_for(args, out)
    if what == "incidents":
        print_incidents(console, rows)
        return ExitCode.OK
    if what == "releases":
        print_releases(console, rows)
        return ExitCode.OK
    for row in rows:
        say(console, f"{row['at']}  {row['server']}: {row['count']}", style="bold")
        for line in (row["report"] or "the report could not be read").splitlines():
            say(console, f"    {line}")
    return ExitCode.OK


def _csv(out: IO[str], rows: Sequence[Mapping[str, Any]]) -> ExitCode:
    if rows:
        writer = csv.DictWriter(out, fieldnames=list(rows[0]), lineterminator="\n")
        writer.writeheader()
        writer.writerows(rows)
    return ExitCode.OK


def _rate_chart(reported: dict[str, Any], path: Path) -> None:
    form = files.chart_form(path)
    from catenum.render.figure import to_bytes
    from catenum.render.rates import rate_figure

    if not reported["rates"]:
        raise InputError(
            f"how often the statements of incident {reported['id']} ran was not stored",
            advice=(
                "'catenum preflight' shows how the server is made to count statements; watch asks"
                " it then."
            ),
        )
    files.save_atomically(path, to_bytes(rate_figure(reported), form), shared=True)


def _chart(asked: History, path: Path) -> None:
    form = files.chart_form(path)
    from catenum.render.chart import chart_figure
    from catenum.render.figure import to_bytes

    rows = asked.over_time()
    if not rows:
        raise InputError("nothing was seen to wait in that time, so there is nothing to draw")
    reported = asked.totals()
    plural = "s" if reported["incidents"] != 1 else ""
    when = f", from {reported['first']} to {reported['last']}" if reported["first"] else ""
    title = f"{reported['incidents']:,} incident{plural}, {reported['deadlocks']:,} deadlocks{when}"
    figure = chart_figure(rows, reported["gaps"], asked.minutes_waited(), title)
    files.save_atomically(path, to_bytes(figure, form), shared=True)
