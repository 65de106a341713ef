"""``catenum watch``: samples running servers for hours, keeps incidents, says what happens."""

from __future__ import annotations

import argparse
import json
import os
import signal
import threading
from collections import deque
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import IO

from catenum.api.watch import watch
from catenum.cli import common, watching
from catenum.cli.exits import ExitCode
from catenum.cli.progress import Reporter
from catenum.core.errors import InputError
from catenum.core.snapshot.alarms import Thresholds
from catenum.core.snapshot.sample import Sample
from catenum.core.snapshot.story import headline_of, tell_sample
from catenum.core.text import one_line
from catenum.engines.targets import Target
from catenum.live.events import WatchEvent, event_value, log_value
from catenum.live.watch import WatchOptions
from catenum.render.console import STYLES, say
from catenum.render.text import print_story
from catenum.store.buffered import BufferedStore
from catenum.store.store import Store

_BAD = ("long", "many", "idle", "deadlocks", "deadlock", "lost", "blind", "store", "trouble")
_TONES = {"began": "wait", "clear": "good", "sees": "good", **dict.fromkeys(_BAD, "bad")}
RECENT = 8


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``watch``."""
    watching.add_target_option(parser, several=True)
    parser.add_argument(
        "--every",
        metavar="TIME",
        type=common.duration_argument,
        default=1000,
        help="between checks (default 1s)",
    )
    parser.add_argument(
        "--for",
        dest="length",
        metavar="TIME",
        type=common.duration_argument,
        help="stop after this time",
    )
    parser.add_argument(
        "--store",
        metavar="PLACE",
        help="where to keep what is seen: a file, or the URL of a PostgreSQL database that many"
        " watches may share (default: a file in your data folder)",
    )
    parser.add_argument("--no-store", action="store_true", help="keep nothing")
    parser.add_argument(
        "--keep", metavar="TIME", type=common.long_duration_argument, default=14 * 86_400_000,
        help="delete what is older, such as 14d (default)",
    )  # fmt: skip
    parser.add_argument(
        "--most",
        metavar="MB",
        type=common.positive,
        default=1000,
        help="size of the store (default 1000)",
    )
    parser.add_argument(
        "--longer-than", metavar="TIME", type=common.duration_argument, default=10_000,
        help="report waits that are longer, and start --run for them (default 10s)",
    )  # fmt: skip
    parser.add_argument(
        "--waiting",
        metavar="N",
        type=common.positive,
        help="report when N sessions wait at the same time",
    )
    parser.add_argument(
        "--idle-open", metavar="TIME", type=common.duration_argument,
        help="report transactions that have been open for this time and are idle",
    )  # fmt: skip
    parser.add_argument(
        "--deadlocks", metavar="N", type=common.positive, help="report N deadlocks in a minute"
    )
    parser.add_argument(
        "--run", dest="alert", metavar="CMD",
        help="start this for whatever passes a threshold, for deadlocks, and when all is over, "
        "with the event as JSON on its standard input",
    )  # fmt: skip
    parser.add_argument(
        "--log",
        metavar="[SERVER=]FILE",
        action="append",
        default=[],
        help=(
            "a server's log that this machine can read, for deadlock reports; of several servers:"
            " whose"
        ),
    )
    parser.add_argument(
        "--at-least",
        metavar="TIME",
        type=common.duration_argument,
        default=500,
        help="a wait shorter than this makes no incident (default 500ms)",
    )
    parser.add_argument(
        "--metrics",
        metavar="[ADDRESS:]PORT",
        help=(
            "answer a metrics collector there, as OpenMetrics text (without an address: to this"
            " machine only)"
        ),
    )
    parser.add_argument(
        "--log-format",
        choices=["text", "json"],
        default="text",
        help="json: one flat line for each event, for a log collector",
    )
    parser.add_argument(
        "--own-runs",
        action="store_true",
        help="also what waits in runs of Catenum itself, such as 'play --pause'",
    )
    common.add_output_options(parser)


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Watch until ended."""
    targets = watching.targets_of(args.target, err)
    options = WatchOptions(
        every_s=args.every / 1000,
        at_least_ms=float(args.at_least),
        thresholds=Thresholds(
            longer_than_ms=float(args.longer_than),
            waiting=args.waiting,
            idle_ms=float(args.idle_open) if args.idle_open is not None else None,
            deadlocks=args.deadlocks,
        ),
        keep_ms=float(args.keep),
        most_bytes=args.most * 1_000_000,
        run=args.alert,
        mask=args.mask,
        own_runs=args.own_runs,
        logs=tuple(_log(text, list(targets)) for text in args.log),
    )
    face = _Face(args, out, len(targets) > 1)
    stop = threading.Event()
    # SIGTERM is the orderly end, Ctrl-C an interrupt
    signal.signal(signal.SIGTERM, lambda number, frame: stop.set())
    done = watch(
        targets,
        options=options,
        store=None if args.no_store else common.store_place(args, err),
        time_limit=args.length,
        stop=stop,
        metrics=args.metrics,
        tell=face.tell,
        seen=face.seen,
        began=lambda store: _announce(args, targets, store, err),
        listener=Reporter(err),
    )
    for name, why in done.never_seen.items():
        err.write(f"catenum: {name} was never seen{f' whole: {why}' if why else ''}\n")
    if done.abandoned:
        err.write("catenum: no server is monitored any longer: every monitor has ended\n")
    return ExitCode.OK if done else ExitCode.UNREACHABLE


def _log(text: str, servers: list[str]) -> tuple[str, Path]:
    """Whose log, and where it is. Raises InputError."""
    for name in servers:
        if text.startswith(f"{name}="):
            return name, Path(text.removeprefix(f"{name}="))
    if len(servers) > 1:
        advice = f"Write --log SERVER=FILE; the servers are {', '.join(servers)}."
        raise InputError(f"--log {text}: which server's log is this?", advice=advice)
    return servers[0], Path(text)


def _announce(
    args: argparse.Namespace,
    targets: dict[str, Target],
    store: Store | BufferedStore | None,
    err: IO[str],
) -> None:
    if store is not None and store.set_aside is not None:
        err.write(
            f"catenum: {store.shown} was damaged; it was set aside as {store.set_aside}, and a"
            " new one begun\n"
        )
    if args.quiet or args.json:
        return
    kept = f"stored in {store.shown}" if store is not None else "nothing is stored"
    err.write(
        f"Watching {', '.join(targets)} every {args.every / 1000:g} s; {kept}. Ctrl-C ends it.\n"
    )
    err.flush()


class _Face:
    """Lines into a pipe or a file, JSON lines, or a view that is drawn again with each sample."""

    def __init__(self, args: argparse.Namespace, out: IO[str], several: bool) -> None:
        self.args, self.out, self.several = args, out, several
        as_lines = args.json or args.log_format == "json"
        self.live = out.isatty() and not as_lines and not args.quiet
        self.console = common.console_for(args, out)
        self.recent: deque[WatchEvent] = deque(maxlen=RECENT)
        self.samples: dict[str, Sample] = {}

    def tell(self, reported: WatchEvent) -> None:
        """Something happened."""
        if self.args.log_format == "json":
            self.out.write(json.dumps(log_value(reported), ensure_ascii=False) + "\n")
            self.out.flush()
            return
        if self.args.json:
            self.out.write(json.dumps(event_value(reported)) + "\n")
            self.out.flush()
            return
        self.recent.append(reported)
        if not self.live:
            say(self.console, self._line(reported))
            for line in (reported.report or "").splitlines() if not self.args.quiet else ():
                say(self.console, f"    {line}")
            self.out.flush()

    def _line(self, reported: WatchEvent) -> str:
        named = reported.server not in reported.text and (
            self.several or reported.what in ("lost", "back")
        )
        server = f"{reported.server}: " if named else ""
        return f"{reported.at} {reported.what:8} {server}{reported.text}"

    def seen(self, name: str, sample: Sample) -> None:
        if not self.live:
            return
        self.samples[name] = sample
        height = os.get_terminal_size(self.out.fileno()).lines if self.out.isatty() else 24
        self.out.write("\x1b[H\x1b[2J")
        self._draw(height)
        self.out.flush()

    def _draw(self, height: int) -> None:
        room = height - len(self.recent) - 3
        texts = [self._lines(name, sample) for name, sample in self.samples.items()]
        for lines, share in zip(texts, shares([len(lines) for lines in texts], room), strict=True):
            shown = lines[:share]
            if len(lines) > share:
                shown[-1] = f"… {len(lines) - share + 1} lines more: catenum now shows all"
            self.console.file.write("\n".join(shown) + "\n")
        if self.recent:
            say(self.console)
            say(self.console, "Lately", style=STYLES["strong"])
            for reported in self.recent:
                line = one_line(
                    self._line(replace(reported, at=reported.at[11:19])), self.console.width - 1
                )
                say(self.console, line, style=STYLES[_TONES.get(reported.what, "plain")])

    def _lines(self, name: str, sample: Sample) -> list[str]:
        info = sample.target
        with self.console.capture() as captured:
            say(
                self.console,
                f"{name} · {info.server} {info.version} · {sample.at}",
                style=STYLES["strong"],
            )
            say(self.console, headline_of(sample))
            say(self.console)
            print_story(self.console, tell_sample(sample))
        return captured.get().rstrip("\n").split("\n")


#: Lines that a server has on the screen at the least.
LEAST_LINES = 3


def shares(wanted: Sequence[int], room: int) -> list[int]:
    """How many lines of a screen each server gets: what it wants, or its equal part of what the
    others leave.
    """
    found = [0] * len(wanted)
    left = room
    for place, number in enumerate(sorted(range(len(wanted)), key=lambda i: wanted[i])):
        part = max(
            min(LEAST_LINES, wanted[number]), min(wanted[number], left // (len(wanted) - place))
        )
        found[number] = part
        left -= part
    return found
