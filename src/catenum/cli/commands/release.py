"""``catenum release``: end a blocker, safely."""

from __future__ import annotations

import argparse
import contextlib
import json
import sys
from collections.abc import Iterator
from dataclasses import asdict
from typing import IO

from catenum.api.release import release, seen_by
from catenum.api.watch import name_of
from catenum.cli import common, watching
from catenum.cli.exits import ExitCode
from catenum.cli.progress import Reporter
from catenum.core.errors import CatenumError, InputError
from catenum.core.servers import rules_of
from catenum.core.snapshot.plain import session_value
from catenum.core.snapshot.sample import SessionInfo
from catenum.core.snapshot.verdict import verdict
from catenum.core.text import counted, duration, listed, one_line
from catenum.live.release import Result, Shown, Way
from catenum.render.console import say
from catenum.store.store import writer_beside

FORMAT = "catenum-release/1"


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``release``."""
    parser.add_argument("session", metavar="ID", help="the session's id, as 'catenum now' shows it")
    watching.add_target_option(parser)
    parser.add_argument(
        "--end", action="store_true", help="end the whole session, not only its statement"
    )
    parser.add_argument(
        "--dry-run", action="store_true", help="say what would be done, and do nothing"
    )
    parser.add_argument(
        "--suspect",
        action="store_true",
        help="also if the server does not name it as the one that is waited for",
    )
    parser.add_argument(
        "--idle", action="store_true", help="also if nobody waits for it, and it waits for nobody"
    )
    parser.add_argument(
        "--store", metavar="PLACE", help="where to write down what was done (as of watch)"
    )
    parser.add_argument(
        "--yes", action="store_true", help="do not ask; needed where nobody can be asked"
    )
    common.add_output_options(parser)


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Show, ask, do, say what came of it."""
    if not args.yes and not args.dry_run and not sys.stdin.isatty():
        raise InputError(
            "nobody can be asked here", advice="Use --yes to skip the question, or --dry-run."
        )
    console = common.console_for(args, out)

    def show(shown: Shown, way: Way) -> None:
        if not args.json:
            for line in _lines(shown, way, mask=args.mask):
                say(console, line)

    def ends(shown: Shown) -> bool:
        # one that is asked about and runs no statement has nothing to cancel
        asked = shown.session.state == "idle in a transaction" and not args.yes
        return bool(args.end) or asked

    done = release(
        args.session,
        args.target,
        agree=lambda shown, way: args.yes or _agreed(args, way, err),
        show=show,
        end=ends,
        dry_run=args.dry_run,
        idle=args.idle,
        suspect=args.suspect,
        listener=Reporter(err, quiet=args.quiet),
    )
    if done.result is None:
        return _done(args, out, done.shown, None, "Nothing was done.")
    text = _described(done.shown, done.result)
    _done(args, out, done.shown, done.result, text)
    name = name_of(args.target, done.server)
    _write_down(args, err, name, done.shown, done.result, text)
    return ExitCode.OK if done.helped else ExitCode.FOUND


def _write_down(
    args: argparse.Namespace, err: IO[str], server: str, shown: Shown, result: Result, text: str
) -> None:
    """In the store, for those who read the history of this night. That it cannot be is said, and
    changes nothing.
    """
    shown_session = shown.sample.masked().session(shown.session.id) if args.mask else shown.session
    try:
        with contextlib.closing(writer_beside(common.store_place(args, err))) as store:
            store.release(
                server, shown_session, result.way, len(shown.waiting), result.went_on, text
            )
    except CatenumError as error:
        err.write(f"catenum: what was done is not stored: {error.problems[0].message}\n")


def _lines(shown: Shown, way: Way, *, mask: bool) -> Iterator[str]:
    session = shown.sample.masked().session(shown.session.id) if mask else shown.session
    yield from _who_it_is(session)
    for suspect in shown.suspected:
        yield (
            f"  may be the one that session {suspect.waiter} waits for: {suspect.why}; the server"
            " does not name it"
        )
    if shown.in_all:
        yield (
            f"  blocks {shown.directly} directly, {shown.in_all} in all, for up to"
            f" {duration(shown.longest_ms)}"
        )
    elif not shown.suspected:
        yield f"  blocks nobody{seen_by(shown)}"
    waits = {edge.holder: edge for edge in shown.sample.edges if edge.waiter == session.id}
    for edge in waits.values():
        where = (edge.resource.masked() if mask else edge.resource).text
        yield f"  waits itself for session {shown.sample.session(edge.holder).who}, over {where}"
    yield from _first_timeout(shown)
    yield from _what_is_undone(shown, session, way)


def _who_it_is(session: SessionInfo) -> Iterator[str]:
    parts = (
        ("user", session.user),
        ("application", session.application),
        ("from", session.host),
        ("in", session.database),
    )
    who = ", ".join(f"{word} {value}" for word, value in parts if value)
    yield f"Session {session.id}: {who}, since {session.started}"
    known = session.state_ms is not None
    state = f"{session.state} for {duration(session.state_ms)}" if known else session.state
    yield f"  {state}" + (f"; waits for {session.waits_on}" if session.waits_on else "")
    if session.statement:
        cut = " (cut by the server)" if session.cut else ""
        yield f"  statement: {one_line(session.statement, 160)}{cut}"


def _first_timeout(shown: Shown) -> Iterator[str]:
    waiting = {name for name, _ in shown.waiting}
    first = min(
        (one for one in shown.sample.timeouts if one.session in waiting),
        key=lambda one: one.ms - shown.sample.waited_ms(one.session),
        default=None,
    )
    if first is not None:
        left = max(0.0, first.ms - shown.sample.waited_ms(first.session))
        whose = "" if first.own else ", if it has no other setting"
        yield (
            f"  the first of their timeouts, of session {first.session}, ends its wait within"
            f" {duration(left)}{whose}"
        )


def _what_is_undone(shown: Shown, session: SessionInfo, way: Way) -> Iterator[str]:
    if session.transaction_ms is None and shown.sample.partial:
        yield (
            "  whether it stands in a transaction, and what would be undone, cannot be seen by this"
            " login"
        )
        return
    if session.transaction_ms is None:
        yield "  is not in a transaction: nothing would be undone"
        return
    changed = session.rows_changed
    rows = f", {counted(changed, 'row')} changed" if changed is not None else ""
    age = f"open for {duration(session.transaction_ms)}{rows}"
    if way == "end":
        yield f"  its transaction, {age}, would be undone, and its client loses its connection:"
        yield f"  {verdict(session, rules_of(shown.sample.target.server))}"
    elif session.state == "idle in a transaction":
        yield f"  its transaction is {age}; it runs no statement, so cancelling has nothing to end:"
        yield "  only --end releases what it holds"
    else:
        yield "  its statement would be cancelled;"
        yield f"  its transaction, {age}, then fails or continues as its client decides"


def _agreed(args: argparse.Namespace, way: Way, err: IO[str]) -> bool:
    what = "End the session" if way == "end" else "Cancel its statement"
    err.write(f"{what}? Type the id to agree: ")
    err.flush()
    return sys.stdin.readline().strip() == args.session


def _described(shown: Shown, result: Result) -> str:
    if not result.sent and not result.gone:
        done = "Nothing was sent: the session runs no statement, so there is nothing to cancel"
        left = (
            f"; {result.left} still wait for it; --end ends the session itself"
            if result.left
            else ""
        )
        return f"{done}{left}."
    if result.gone:
        done = "the session is gone" if result.sent else "the session had gone already"
    elif result.way == "cancel":
        done = f"the statement was cancelled; the session is {result.state}"
    else:
        done = (
            f"the session was terminated, but is still {result.state}: it may be undoing its work"
        )
    if not shown.waiting:
        return f"Done: {done}."
    if result.left:
        more = "; --end ends the session itself" if result.way == "cancel" else ""
        return f"Done: {done}; {result.left} still wait for it{more}."
    chain = (
        f"nobody waits for it any more; of {len(shown.waiting)} that waited {result.went_on}"
        " went on"
    )
    for count, what in ((result.failed, "failed"), (result.ended, "ended")):
        chain += f", {count} {what}" if count else ""
    if result.behind:
        chain += (
            f", the others wait for {listed([f'session {name}' for name in result.behind])} now"
        )
    return f"Done: {done}; {chain}."


def _done(
    args: argparse.Namespace, out: IO[str], shown: Shown, result: Result | None, text: str
) -> ExitCode:
    if args.json:
        sample = shown.sample.masked() if args.mask else shown.sample
        value = {
            "format": FORMAT,
            "session": session_value(sample.by_id.get(shown.session.id, shown.session)),
            "directly": shown.directly,
            "in_all": shown.in_all,
            "longest_ms": round(shown.longest_ms, 3),
            "result": asdict(result) if result else None,
        }
        out.write(json.dumps(value, indent=2) + "\n")
    else:
        out.write(text + "\n")
    return ExitCode.OK
