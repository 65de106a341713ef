"""``catenum propose``: changes that would end a scenario's conflicts, derived, tried and ranked."""

from __future__ import annotations

import argparse
import json
import shlex
from dataclasses import replace
from pathlib import Path
from typing import IO

from catenum.api import files
from catenum.api.propose import propose
from catenum.api.scenarios import scenario_with_text
from catenum.cli import common, scenarios
from catenum.cli.commands.churn import copies_of
from catenum.cli.exits import ExitCode
from catenum.cli.progress import Reporter
from catenum.cli.space_options import add_reach_options, space_options
from catenum.core.document.comparison import proposal_summary
from catenum.core.errors import InputError
from catenum.core.propose.candidate import Candidate
from catenum.core.propose.changes import with_remedies
from catenum.core.propose.proposals import Proposals
from catenum.core.propose.ranking import Proposal
from catenum.core.scenario.model import Scenario
from catenum.core.servers import rules_of
from catenum.core.sweep.carried_over import OnlyHere, carried_over
from catenum.engines.clock import Clock
from catenum.render.console import say
from catenum.render.propose import (
    patch,
    print_first,
    print_proposals,
    proposals_value,
    recordings_value,
)


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``propose``."""
    scenarios.add_run_options(parser)
    scenarios.add_play_options(parser)
    add_reach_options(parser, limit=300, length=False)
    parser.add_argument(
        "--for",
        dest="length",
        metavar="TIME",
        type=common.duration_argument,
        help="try no more candidates after this time",
    )
    parser.add_argument(
        "--churn", action="store_true", help="also in loops, for conflicts inside statements"
    )
    parser.add_argument(
        "--copies",
        action="append",
        default=[],
        metavar="NAME=N",
        help="with --churn: N loops of a transaction at once",
    )
    parser.add_argument(
        "--write",
        metavar="FILE",
        type=Path,
        help="write a copy of the scenario with what cures as remedies",
    )
    parser.add_argument(
        "-o",
        "--save",
        metavar="FILE",
        type=Path,
        help="write the result with recordings of before and after, for 'report'",
    )
    parser.add_argument(
        "--force", action="store_true", help="with --write: over a file that is there"
    )
    parser.add_argument(
        "--pick",
        type=common.positive,
        metavar="N",
        help="for --write and --patch: the proposal of this rank",
    )
    parser.add_argument(
        "--patch", action="store_true", help="print the change alone, as SQL and as a difference"
    )
    common.add_output_options(parser)


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Propose and show. The exit code is 0 where something cures, or nothing is wrong; 1 where
    nothing does.
    """
    file, text = scenario_with_text(args.scenario)
    if args.save:
        files.check_writable(args.save)
    if args.write:
        files.check_writable(args.write)
        if args.write.exists() and not args.force:
            raise InputError(
                f"--write {args.write}: the file is there", advice="Use --force to overwrite it."
            )
    listener, clock = Reporter(err, quiet=args.quiet, progress=not args.json), Clock()

    def first(proposal: Proposal) -> None:
        listener.clear()
        if not (args.json or args.quiet or args.brief or args.patch):
            print_first(common.console_for(args, out), proposal, clock.now_ms())
            out.flush()

    found = propose(
        file,
        order=args.order,
        churn=args.churn,
        copies=copies_of(args) if args.churn else None,
        first=first,
        show=args.save is not None,
        **space_options(args, listener),
    )
    if args.save:
        value = {**proposals_value(found), **recordings_value(found)}
        files.save_atomically(args.save, json.dumps(value, ensure_ascii=False).encode())
    _show(args, found, text, file.scenario, out, err)
    if found.interrupted:
        return ExitCode.INTERRUPTED
    if found.stopped and not found.tried:
        err.write("catenum: --for was over before any candidate was tried; give it more time\n")
        return ExitCode.USAGE
    wrong = found.conflict or found.baseline.as_serially
    return ExitCode.OK if found.cures or not wrong else ExitCode.FOUND


def _show(
    args: argparse.Namespace,
    found: Proposals,
    text: str,
    scenario: Scenario,
    out: IO[str],
    err: IO[str],
) -> None:
    chosen = [one for one in found.cures if not one.dominated]
    if args.pick is not None:
        if args.pick > len(found.tried):
            raise InputError(f"--pick {args.pick}: there are {len(found.tried)} proposals")
        chosen = [found.tried[args.pick - 1]]
    if args.write is not None:
        mine = [one for one in (_handed_back(one, found, scenario) for one in chosen) if one]
        if mine:
            files.save_atomically(
                args.write, with_remedies(text, mine, list(scenario.remedies)).encode(), shared=True
            )
            common.teller(err, args.quiet)(
                f"{args.write}: {len(mine)} remedies added; 'catenum trial' tries them again"
            )
        else:
            common.teller(err, args.quiet)(f"{args.write}: not written, since nothing cures")
    if args.json:
        out.write(json.dumps(proposals_value(found), indent=2, ensure_ascii=False) + "\n")
        return
    if args.patch:
        out.write("\n".join(patch(found, one) for one in chosen[:1]))
        if not chosen:
            common.teller(err, args.quiet)(
                "no patch, since nothing cures" if found.conflict else "nothing to cure"
            )
        return
    console = common.console_for(args, out)
    if args.quiet:
        none = "nothing cures" if found.tried else "nothing was tried"
        best = (
            _briefly(chosen[0])
            if chosen
            else none
            if found.conflict or found.stopped
            else "nothing to cure"
        )
        say(
            console,
            f"{found.explored.scenario} on {rules_of(found.explored.target.server).title}: {best}",
        )
        return
    if args.brief:
        common.say_answer(console, proposal_summary(proposals_value(found)))
    else:
        print_proposals(console, found, verbose=args.verbose)
    say(console)
    common.say_next(console, *_next(args, found, bool(chosen)))


def _handed_back(one: Proposal, found: Proposals, scenario: Scenario) -> Candidate | None:
    """A change as one of the scenario's own statements; None where only the case that was looked at
    in its place has them.
    """
    if found.instead is None:
        return one.candidate
    own = scenario.for_server(found.explored.target.server)
    like = {name: name for name in own.transactions if name in found.scenario.transactions}
    try:
        remedy = carried_over(one.candidate.remedy, found.scenario, own, like)
    except OnlyHere:
        return None
    return replace(one.candidate, remedy=remedy) if remedy is not None else None


def _next(args: argparse.Namespace, found: Proposals, cured: bool) -> list[str]:
    scenario = shlex.quote(args.scenario)
    name = found.explored.scenario
    if not cured:
        return [f"catenum explore {scenario}   (every schedule that can differ)"]
    commands = []
    if not args.write:
        commands.append(f"catenum propose {scenario} --write {name}-cured.yaml")
    else:
        commands.append(f"catenum trial {shlex.quote(str(args.write))}")
    if args.save:
        commands.append(common.report_command(args.save, name))
    return commands


def _briefly(one: Proposal) -> str:
    limits = " (for the values or rows of this case only)" if one.this_case_only else ""
    return f"{one.candidate.name}{limits}"
