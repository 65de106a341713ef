"""``catenum preflight``: what a server and a login allow, what is off, and what watching would cost
there.
"""

from __future__ import annotations

import argparse
import json
import shlex
from collections.abc import Sequence
from dataclasses import asdict
from typing import IO

from rich.console import Console
from rich.text import Text

from catenum.api.preflight import check_profile, preflight
from catenum.cli import common, watching
from catenum.cli.exits import ExitCode
from catenum.cli.progress import Reporter
from catenum.engines.monitor import Check
from catenum.render.console import STYLES, say

FORMAT = "catenum-preflight/1"


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``preflight``."""
    watching.add_target_option(parser)
    parser.add_argument(
        "--for",
        dest="purpose",
        choices=("run", "watch", "intake"),
        metavar="PURPOSE",
        help="only what one thing needs: run (a scenario on this server), watch, or intake (of its "
        "logs)",
    )
    common.add_output_options(parser)


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Check, measure, show. Nothing is changed on the server, but where a profile is tested: that
    takes scratch space.
    """
    if args.profile or common.is_by_profile(args.target):
        return _profile(args, out, err)
    found = preflight(args.target, purpose=args.purpose, listener=Reporter(err, quiet=args.quiet))
    info, login, checks, lacking = found.target, found.login, found.checks, found.lacking
    if args.json:
        value = {
            "format": FORMAT,
            "target": asdict(info),
            "login": login,
            "checks": [asdict(check) for check in checks],
            "cost": {
                "looks": found.looks,
                "median_ms": found.median_ms,
                "worst_ms": found.worst_ms,
                "rows": found.rows,
                "connected": found.connected,
            },
            "notes": list(found.notes),
        }
        out.write(json.dumps(value, indent=2) + "\n")
        return ExitCode.FOUND if lacking else ExitCode.OK
    console = common.console_for(args, out)
    say(console, f"{info.server} {info.version} ({info.url}), as {login}", style=STYLES["strong"])
    if not (args.quiet or args.brief):
        say(console)
        _show_checks(console, checks)
        cost = (
            f"{found.median_ms:.1f} ms here (worst of {found.looks}: {found.worst_ms:.1f} ms),"
            f" {found.connected} sessions, {found.rows} rows read"
        )
        say(console)
        say(console, f"A check costs {cost}:")
        share = f"{found.median_ms / 1000:.2%} of one connection's time"
        say(console, f"  at one a second, {share}; nothing is locked, nothing is written")
        _show_missing(console, lacking)
    what = {"run": "a run", "watch": "a watch", "intake": "intake"}.get(args.purpose, "capture")
    count = f"{len(lacking)} thing{'s' if len(lacking) != 1 else ''} that {what} needs"
    reported = (
        f"{count} {'are' if len(lacking) != 1 else 'is'} off"
        if lacking
        else f"all that {what} needs is on"
    )
    say(
        console,
        reported[0].upper() + reported[1:] + ".",
        style=STYLES["bad" if lacking else "good"],
    )
    if not args.quiet:
        where = f" --target {shlex.quote(args.target)}" if args.target else ""
        common.say_next(console, f"catenum now{where}", f"catenum watch{where}")
    return ExitCode.FOUND if lacking else ExitCode.OK


def _profile(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """What of a profile is right, what is wrong or missing, and what that costs."""
    found = check_profile(args.target, listener=Reporter(err, quiet=args.quiet))
    if args.json:
        value = {
            "format": "catenum-profile-check/1",
            "target": asdict(found.target),
            "profile": found.profile,
            "checks": [asdict(one) for one in found.checks],
        }
        out.write(json.dumps(value, indent=2) + "\n")
        return ExitCode.OK if found else ExitCode.FOUND
    console = common.console_for(args, out)
    info = found.target
    title = f"{found.profile} {info.version} ({info.url}), by its profile"
    say(console, title, style=STYLES["strong"])
    shown = found.wrong if args.quiet or args.brief else found.checks
    signs = {"right": ("✓", "good"), "wrong": ("✗", "bad")}
    width = max((len(one.what) for one in shown), default=0)
    for one in shown:
        sign, tone = signs.get(one.state, ("·", "wait"))
        line = Text()
        line.append(f"{sign} ", style=STYLES[tone])
        line.append(one.what.ljust(width) + "  ")
        line.append(one.state.ljust(10), style=STYLES[tone])
        line.append(f"  {one.found}" if one.found else "")
        say(console, line)
        if one.state != "right" and one.costs:
            say(console, f"    what that costs: {one.costs}", style=STYLES["faint"])
    count = len(found.wrong)
    missing = sum(one.state in ("missing", "not tested") for one in found.checks)
    right = sum(one.state == "right" for one in found.checks)
    text = f"{right} right, {count} wrong, {missing} missing or not tested."
    say(console, text, style=STYLES["bad" if count else "good"])
    if not args.quiet:
        words = [word for file in args.profile for word in ("--profile", file)]
        words += ["--target", args.target] if args.target else []
        common.say_next(console, f"catenum explore berth-swap {shlex.join(words)}".rstrip())
    return ExitCode.OK if found else ExitCode.FOUND


def _show_checks(console: Console, checks: Sequence[Check]) -> None:
    """Each with its state, and the statements that would change it."""
    width = max(len(check.what) for check in checks)
    for check in checks:
        good = check.state == "on"
        tone = "good" if good else "bad" if check.needed else "wait"
        line = Text()
        line.append("✓ " if good else "✗ " if check.needed else "· ", style=STYLES[tone])
        line.append(check.what.ljust(width) + "  ")
        line.append(check.state.ljust(8), style=STYLES[tone])
        value = f"{check.value}: " if check.value and check.value != check.state else ""
        line.append(f"  {value}{check.why}")
        say(console, line)
        for statement in (check.turn_on or "").splitlines():
            say(console, f"    to turn it on: {statement}", style=STYLES["faint"])
        if check.cost and not good:
            say(console, f"    it costs: {check.cost}", style=STYLES["faint"])
        if check.then:
            say(
                console,
                f"    {'then' if check.turn_on else 'to turn it on'}: {check.then}",
                style=STYLES["faint"],
            )


def _show_missing(console: Console, lacking: Sequence[Check]) -> None:
    """All statements that are missing, each once and on a line of its own, to be copied."""
    missing = dict.fromkeys(
        line for check in lacking for line in (check.turn_on or "").splitlines()
    )
    if missing:
        say(console)
        say(console, "All that is missing, for an administrator:", style=STYLES["strong"])
    for one in missing:
        console.print(f"    {one}", markup=False, highlight=False, soft_wrap=True)
