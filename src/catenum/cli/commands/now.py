"""``catenum now``: one look at running servers."""

from __future__ import annotations

import argparse
import contextlib
import json
import shlex
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path
from typing import IO

from rich.console import Console

from catenum.api import files
from catenum.api.now import look
from catenum.cli import common, watching
from catenum.cli.exits import ExitCode
from catenum.core.errors import CatenumError, InputError, TargetError
from catenum.core.record.recording_file import to_json
from catenum.core.servers import NATIVE, rules_of
from catenum.core.snapshot.across import look_across, standing
from catenum.core.snapshot.groups import groups_of
from catenum.core.snapshot.plain import FORMAT, sample_value
from catenum.core.snapshot.sample import Sample
from catenum.core.snapshot.story import headline_of, tell_across, tell_sample
from catenum.core.snapshot.verdict import verdict
from catenum.core.text import counted, duration
from catenum.engines.clock import milliseconds_between
from catenum.engines.targets import Target
from catenum.live.client_sockets import client_ends
from catenum.render.console import STYLES, say
from catenum.render.text import print_story

#: Heads of which the command is printed that releases what they hold.
MOST_WAYS = 3


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``now``."""
    watching.add_target_option(parser, several=True)
    parser.add_argument(
        "--locks", action="store_true", help="list every lock of the sessions in a chain too"
    )
    parser.add_argument(
        "--longer-than",
        metavar="TIME",
        type=common.duration_argument,
        default=0,
        help=(
            "exit 1 only if a session that waits has been at its statement longer than this, such"
            " as 10s"
        ),
    )
    parser.add_argument(
        "--store", metavar="PLACE", help="what a watch stored: how often it was so before"
    )
    parser.add_argument(
        "-o",
        "--save",
        metavar="FILE",
        type=Path,
        help="write the chains as a recording (of one target)",
    )
    common.add_output_options(parser)


@dataclass(frozen=True)
class _Seen:
    """One server: what a look showed, or why there was none."""

    name: str
    sample: Sample | None = None
    error: TargetError | None = None

    def code(self, longer_than_ms: float) -> ExitCode:
        """What this server alone would end with."""
        if self.sample is None:
            return ExitCode.UNREACHABLE
        longest = self.sample.longest_stuck_ms
        if self.sample.graph.waiters and (longest > longer_than_ms or not longer_than_ms):
            return ExitCode.FOUND
        # What this login may not see may wait all the same.
        return ExitCode.UNREACHABLE if self.sample.partial else ExitCode.OK


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Check and show."""
    targets = watching.targets_of(args.target, err)
    if args.save:
        if len(targets) > 1:
            raise InputError("--save takes the chains of one target; give --target once")
        files.check_writable(args.save)
    with ThreadPoolExecutor(
        len(targets)
    ) as pool:  # a server that is slow to answer must not hold up the others
        looks = [pool.submit(_look, name, target, args) for name, target in targets.items()]
        found = [look.result() for look in looks]
    # What says that two sessions are one piece of work may be in a comment, so it is masked after
    # that.
    across = _across(targets, found, args) if len(found) > 1 else None
    if len(found) == 1 and found[0].error is not None:
        raise found[0].error
    if args.mask:
        found = [
            replace(seen, sample=seen.sample.masked()) if seen.sample is not None else seen
            for seen in found
        ]
    if args.save and found[0].sample is not None:
        from catenum.core.snapshot.sample_recording import recording_of

        files.save_atomically(
            args.save, to_json(recording_of(found[0].sample, title="now")).encode()
        )
    codes = {seen.code(args.longer_than) for seen in found}
    if across is not None:
        codes.add(ExitCode.FOUND)
    code = next((c for c in (ExitCode.FOUND, ExitCode.UNREACHABLE) if c in codes), ExitCode.OK)
    if args.json:
        out.write(json.dumps(_value(found, across), indent=2) + "\n")
        return code
    _show(common.console_for(args, out), found, across, args)
    return code


def _show(
    console: Console, found: list[_Seen], across: Sample | None, args: argparse.Namespace
) -> None:
    """A line for each of several servers, what goes across them, and then each in full."""
    several = len(found) > 1
    if several:
        width = max(len(seen.name) for seen in found)
        for seen in found:
            tone = STYLES["bad" if seen.sample is None or seen.sample.graph.waiters else "plain"]
            say(console, f"{seen.name:{width}}  {_line(seen)}", style=tone)
    if across is not None:
        say(console)
        say(console, f"Across servers: {headline_of(across)}", style=STYLES["bad"])
        if not (args.quiet or args.brief):
            say(console)
            print_story(console, tell_across(across))
    for seen in found if not (several and args.quiet) else ():
        if seen.sample is not None:
            _show_server(console, seen.name, seen.sample, args, several=several)


def _show_server(
    console: Console, name: str, sample: Sample, args: argparse.Namespace, *, several: bool
) -> None:
    """One server: who waits for whom, and how what is held can be released."""
    info = sample.target
    if several:
        say(console)
    named = f"{name}: " if several and name != info.url else ""
    say(console, f"{named}{info.server} {info.version} ({info.url}) at {sample.at}", style="bold")
    say(console, headline_of(sample), style="bold")
    if args.quiet:
        return
    if not args.brief:
        say(console)
        print_story(console, tell_sample(sample))
    ways = [*_ways_out(sample, name if args.target else None)]
    try:
        ways += _before(sample, name, args)
    except CatenumError as error:  # what is seen now is what was asked for
        ways.append(f"How often it was so before is not known: {error.problems[0].message}")
    for line in ["", *ways] if ways else ():
        say(console, line)
    say(console)
    where = f" --target {shlex.quote(name)}" if args.target else ""
    commands = []
    if sample.target.server in NATIVE:
        commands.append(f"catenum watch{where}   (keeps what happens)")
    if sample.graph.waiters:
        commands.insert(0, f"catenum now{where} -o now.json; catenum report now.json -o now.html")
    if commands:
        common.say_next(console, *commands)


def _ways_out(sample: Sample, target: str | None) -> Iterator[str]:
    """The command that releases what each head holds: shows what would be undone, and asks."""
    heads = [sample.session(head) for head in sample.graph.heads()]
    heads = [session for session in heads if session.id.isdigit() and not session.background]
    for session in heads[:MOST_WAYS]:
        end = " --end" if session.state == "idle in a transaction" else ""
        where = f" --target {shlex.quote(target)}" if target else ""
        reported = verdict(session, rules_of(sample.target.server), partial=sample.partial)
        yield (
            f"To release what {session.id} holds ({reported}): catenum release"
            f" {session.id}{end}{where}"
        )


def _before(sample: Sample, name: str, args: argparse.Namespace) -> Iterator[str]:
    """How often it was so before, where a watch has stored that."""
    path = common.store_place(args)
    if not sample.edges or (args.store is None and not Path(path).exists()):
        return
    # SQLite and the store are loaded only where there is one.
    from catenum.store import queries
    from catenum.store.store import reader

    with contextlib.closing(reader(path)) as store:
        for group in groups_of(sample)[:MOST_WAYS]:
            for resource in group.objects[:1]:
                found = queries.before(store, name, resource.text)
                if found is None:
                    continue
                ago = duration(milliseconds_between(found["last"], sample.at))
                yield (
                    f"Seen before over {(resource.masked() if args.mask else resource).text}:"
                    f" {counted(found['incidents'], 'incident')} since {found['first'][:10]}, the"
                    f" last {ago} ago, the longest wait {duration(found['longest_ms'])}"
                )


def _look(name: str, target: Target, args: argparse.Namespace) -> _Seen:
    try:
        return _Seen(name, look(target, locks=args.locks))
    except TargetError as error:
        return _Seen(name, error=error)


def _line(seen: _Seen) -> str:
    if seen.error is not None:
        return f"not seen: {seen.error.problems[0].message}"
    return headline_of(seen.sample) if seen.sample is not None else ""


def _across(
    targets: dict[str, Target], found: list[_Seen], args: argparse.Namespace
) -> Sample | None:
    """What goes over several servers: looked at twice, since they are not seen at one moment."""
    first = look_across(
        {seen.name: seen.sample for seen in found if seen.sample is not None}, client_ends
    )
    if first is None:
        return None
    with ThreadPoolExecutor(len(targets)) as pool:
        looks = [pool.submit(_look, name, target, args) for name, target in targets.items()]
        again = [look.result() for look in looks]
    second = look_across(
        {seen.name: seen.sample for seen in again if seen.sample is not None}, client_ends
    )
    shown = standing(first, second)
    return shown.masked() if shown is not None and args.mask else shown


def _value(found: list[_Seen], across: Sample | None) -> dict[str, object]:
    values = [
        (
            {"name": seen.name, **sample_value(seen.sample)}
            if seen.sample is not None
            else {
                "name": seen.name,
                "error": seen.error.problems[0].message if seen.error else None,
            }
        )
        for seen in found
    ]
    if len(values) == 1:
        return dict(values[0])
    return {
        "format": FORMAT,
        "servers": values,
        "across": sample_value(across) if across is not None else None,
    }
