"""``catenum churn``: transactions in loops, uncontrolled, until timing does it."""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import IO, Any

from rich.console import Console

from catenum.cli import common, scenarios
from catenum.cli.exits import ExitCode
from catenum.core.compare.measure import percentile, rate
from catenum.core.errors import InputError
from catenum.core.record.recording_file import to_json
from catenum.core.text import duration, listed, one_line, suggestion
from catenum.lab.load.churn import Churn
from catenum.lab.load.cycles import DeadlockKind, cycles
from catenum.lab.run.handlers import Handlers, handlers_of
from catenum.lab.run.loading import load
from catenum.render.console import make_console, say

FORMAT = "catenum-churn/1"
FAILURES = ("deadlock", "refused", "timeout", "rejected")
STEP_S = 0.5


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``churn``."""
    scenarios.add_run_options(parser)
    scenarios.add_play_options(parser, schedule=False)
    add_load_options(parser)
    parser.add_argument(
        "--iterations", type=int, metavar="N", help="stop after N iterations of each copy"
    )
    parser.add_argument("--until", choices=FAILURES[:3], help="stop as soon as this has happened")
    parser.add_argument(
        "--save", metavar="FOLDER", type=Path, help="write a recording of each distinct cycle there"
    )
    common.add_output_options(parser)


def add_load_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--copies",
        action="append",
        default=[],
        metavar="NAME=N",
        help="N loops of a transaction at once; may be repeated",
    )
    parser.add_argument(
        "--for",
        dest="length",
        type=common.duration_argument,
        metavar="TIME",
        help="how long (default 10s)",
    )
    parser.add_argument(
        "--commit", action="store_true", help="commit each iteration instead of rolling it back"
    )


def copies_of(args: argparse.Namespace, names: list[str]) -> dict[str, int]:
    """``--copies`` as numbers. Raises InputError for unknown names and counts that are none."""
    found = {}
    for word in args.copies:
        name, _, number = word.partition("=")
        if name not in names:
            raise InputError(
                f"--copies names {name!r}, which is not a transaction",
                advice=suggestion(name, names),
            )
        if not number.isdigit() or not 1 <= int(number) <= 200:
            raise InputError(f"--copies {word}: how many must be a number from 1 to 200")
        found[name] = int(number)
    return found


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Loop, count, show."""
    common.require("scipy", "churn")  # for the intervals of what it counts
    file = scenarios.load_scenario(args.scenario)
    scenario, _ = scenarios.changed_by_options(file, args)
    copies = copies_of(args, list(scenario.transactions))
    target = common.target_of(args.target or scenarios.recorded_target(file), err)
    scenarios.refuse_unsafe(file, target.server, outside=args.outside)
    if args.save:
        args.save.mkdir(mode=0o700, parents=True, exist_ok=True)
    interrupted = False
    with scenarios.engine_for(
        target, common.teller(err, args.quiet), file, outside=args.outside
    ) as engine:
        load(engine, scenario.for_server(target.server), file)
        churn = Churn(
            engine, scenario, copies=copies, commit=args.commit, most=args.iterations, file=file
        )
        try:
            churn.ready()
            _turns(churn, args, err)
        except KeyboardInterrupt:
            interrupted = True
        finally:
            churn.close()
        found = cycles(churn)
        handlers = handlers_of(engine, churn.scenario)
    paths = _save(found, args.save, scenario.scenario)
    show(churn, found, paths, args, out, handlers)
    if interrupted:
        err.write("catenum: interrupted; these are the figures so far\n")
        return ExitCode.INTERRUPTED
    found_any = churn.stuck or churn.hidden or any(churn.failures(kind) for kind in FAILURES)
    return ExitCode.FOUND if found_any else ExitCode.OK


def _turns(churn: Churn, args: argparse.Namespace, err: IO[str]) -> None:
    live = err.isatty() and not args.quiet
    limit = args.length / 1000 if args.length else (3600.0 if args.iterations else 10.0)
    while churn.seconds < limit and not churn.finished:
        churn.turn(min(STEP_S, limit - churn.seconds), args.until)
        if live:
            left = f", {limit - churn.seconds:.0f} s left" if not args.iterations else ""
            reported = (
                f"{churn.iterations:,} iterations, {churn.failures('deadlock')} deadlocks{left}"
            )
            err.write(f"\r\x1b[K{reported}")
            err.flush()
        if args.until and churn.failures(args.until):
            break
    if live:
        err.write("\r\x1b[K")


def _save(found: list[DeadlockKind], folder: Path | None, name: str) -> list[Path]:
    paths = []
    for number, cycle in enumerate(found if folder else [], 1):
        path = (folder or Path()) / f"{name}-cycle-{number}.json"
        common.save_atomically(path, to_json(cycle.recording).encode())
        paths.append(path)
    return paths


def figures(churn: Churn) -> dict[str, Any]:
    """What was measured, as plain values. Latencies in ms, rates per 10,000 iterations of all loops
    together.
    """
    return {
        "seconds": round(churn.seconds, 3),
        "iterations": churn.iterations,
        "per_second": round(churn.iterations / churn.seconds, 1) if churn.seconds else 0.0,
        "lock_waits": churn.waits if churn.engine.capabilities.counts_waits else None,
        "waiting_at_a_look": round(churn.seen_waiting / churn.looks, 3) if churn.looks else None,
        "stuck": [
            {"loop": name, "statement": number, "sql": churn.sql_of(name, number)}
            for name, number in churn.stuck
        ],
        "failures": {
            kind: {
                "count": churn.failures(kind),
                "per_10000": (found := rate(churn.failures(kind), churn.iterations)).rate,
                "low": found.low,
                "high": found.high,
            }
            for kind in FAILURES
        },
        "transactions": {
            name: {
                "iterations": tally.iterations,
                "failures": dict(tally.failures),
                **{
                    f"p{int(share * 100)}_ms": round(percentile(tally.latencies, share), 3)
                    for share in (0.5, 0.95, 0.99)
                },
            }
            for name, tally in churn.tallies.items()
        },
    }


def show(
    churn: Churn,
    found: list[DeadlockKind],
    paths: list[Path],
    args: argparse.Namespace,
    out: IO[str],
    handlers: Handlers,
) -> None:
    """The figures on standard output, in the form asked for."""
    value = figures(churn)
    if args.json:
        reported = [
            {
                "cycle": r.text,
                "times": r.times,
                "first_iteration": r.first_iteration,
                "findings": [f.id for f in r.recording.findings],
            }
            for r in found
        ]
        plain = {
            "format": FORMAT,
            "scenario": churn.scenario.scenario,
            **value,
            "cycles": reported,
            "cycles_not_read": churn.unread,
            "deadlocks_hidden": churn.hidden,
            "handlers": {name: list(conditions) for name, conditions in handlers},
            "files": [str(p) for p in paths],
        }
        out.write(json.dumps(plain, indent=2, ensure_ascii=False) + "\n")
        return
    console = make_console(out, color=False if args.no_color else None)
    deadlocks = rate(churn.failures("deadlock"), churn.iterations)
    if args.quiet:
        say(console, f"{churn.scenario.scenario}: deadlocks: {deadlocks}")
        _print_hidden(console, churn, handlers)
        return
    info = churn.engine.info
    say(
        console,
        f"{churn.scenario.scenario} on {info.server} {info.version} ({info.url}), in loops",
        style="bold",
    )
    how = "committed" if args.commit else "rolled back"
    say(
        console,
        f"{churn.iterations:,} iterations in {churn.seconds:.1f} s, {value['per_second']:,.0f} a "
        f"second; each was {how}",
    )
    say(console)
    _print_table(console, churn)
    say(console)
    for kind in FAILURES:
        number = churn.failures(kind)
        if number or kind == "deadlock":
            style = "bold red" if number else "green"
            say(
                console,
                f"{kind + 's':<10} {number:>7}   {rate(number, churn.iterations)}",
                style=style,
            )
    _print_hidden(console, churn, handlers)
    if value["lock_waits"] is not None:
        say(console, f"lock waits {churn.waits:>7}   (for rows, as the server counts them)")
    if value["waiting_at_a_look"] is not None:
        say(
            console,
            f"waiting    {value['waiting_at_a_look']:>7}   loops on average, in"
            f" {churn.looks} samples",
        )
    for name, number in churn.stuck:
        sql = one_line(churn.sql_of(name, number), 60)
        say(
            console,
            f"stuck              {name} {number} waited to the end: {sql}",
            style="bold red",
        )
    if churn.stuck:
        say(
            console,
            "                   no other loop was in a transaction any more: a session keeps what"
            " it waits for",
        )
    _print_cycles(console, found, paths, churn.unread)


def _print_hidden(console: Console, churn: Churn, handlers: Handlers) -> None:
    """Deadlocks that only the server's own count shows, and what may have caught them."""
    for name, conditions in handlers:
        say(
            console,
            f"           {name} catches {listed(list(conditions))}: its client may not receive"
            " the error",
            style="dim",
        )
    if churn.hidden:
        text = (
            f"caught     {churn.hidden:>7}   deadlocks that the server counted and no client"
            " received"
        )
        say(console, text, style="bold red")
    elif handlers and churn.hidden is None:
        say(
            console,
            "           the server's own count of deadlocks could not be compared",
            style="bold red",
        )


def _print_table(console: Console, churn: Churn) -> None:
    say(
        console,
        f"{'transaction':<16}{'iterations':>11}{'p50':>10}{'p95':>10}{'p99':>10}   failures",
        style="dim",
    )
    for name, tally in churn.tallies.items():
        times = "".join(
            f"{duration(percentile(tally.latencies, share)):>10}" for share in (0.5, 0.95, 0.99)
        )
        failures = (
            ", ".join(f"{kind} {count}" for kind, count in sorted(tally.failures.items())) or "none"
        )
        say(console, f"{name:<16}{tally.iterations:>11,}{times}   {failures}")


def _print_cycles(
    console: Console, found: list[DeadlockKind], paths: list[Path], unread: int
) -> None:
    if unread:
        say(console)
        say(
            console,
            f"Of {unread:,} deadlocks the cycle was not read: the server keeps its report of the"
            " latest one only",
        )
    if not found:
        return
    say(console)
    say(console, "Distinct cycles", style="bold")
    for number, cycle in enumerate(found, 1):
        say(
            console,
            f"  {number}. seen {cycle.times} times, first after {cycle.first_iteration:,}"
            " iterations",
        )
        say(console, f"     {cycle.text}")
        for finding in cycle.recording.findings:
            say(console, f"     {finding.title}: {finding.evidence[0]}", style="dim")
        if paths:
            say(console, f"     catenum explain {paths[number - 1]}", style="green")
