"""``catenum levels``: what each isolation level prevents on a server, and which one a scenario
needs.
"""

from __future__ import annotations

import argparse
import shlex
from dataclasses import asdict
from pathlib import Path
from typing import IO, Any

from catenum import samples
from catenum.api import files
from catenum.api.levels import MOST_CLASSES, RETRIES, levels, need
from catenum.api.scenarios import load, target_of
from catenum.api.servers import find_target
from catenum.cli import common, scenarios
from catenum.cli.exits import ExitCode
from catenum.cli.progress import Reporter
from catenum.cli.space_options import add_reach_options, space_options
from catenum.core import formats
from catenum.core.errors import InputError
from catenum.core.levels.matrix import Matrix
from catenum.core.levels.need import Need
from catenum.core.levels.probes import PROBE_NAMES
from catenum.core.levels.words import differences
from catenum.core.text import suggestion
from catenum.render.console import say
from catenum.render.levels import print_matrices, print_need

MATRIX_FORMAT, NEED_FORMAT = "catenum-matrix/1", "catenum-need/1"
#: Options that say something of a scenario.
_OF_SCENARIO = {
    "retry": "--retry",
    "outside": "--outside",
    "every": "--every",
    "limit": "--limit",
    "check_orders": "--check-orders",
    "length": "--for",
    "seed": "--seed",
    "workers": "--workers",
    "statement_limit": "--statement-limit",
}


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``levels``."""
    parser.add_argument(
        "scenario",
        metavar="SCENARIO",
        nargs="?",
        help=(
            "the scenario whose levels are looked for: a file, or the name of a sample; without"
            " one, what each level prevents on the server is shown"
        ),
    )
    common.add_profile_options(parser)
    parser.add_argument(
        "--target",
        metavar="TARGET",
        action="append",
        help=(
            "local:postgresql (default), a URL, or a short name from catenum.toml; without a"
            " scenario it may be repeated, to compare servers"
        ),
    )
    parser.add_argument(
        "--probe", metavar="NAME", help="write one of the shipped probes as a scenario, and end"
    )
    parser.add_argument(
        "--chart", metavar="FILE", type=Path, help="draw the matrix as a .png or .svg file"
    )
    parser.add_argument(
        "-o", "--save", metavar="FILE", type=Path, help="write what --json prints to a file"
    )
    parser.add_argument(
        "--retry",
        metavar="N",
        type=common.whole_number,
        default=RETRIES,
        help=(
            "with a scenario: how often a transaction that is refused or a deadlock victim begins"
            f" again, where it has no retry of its own (default {RETRIES}; 0: never)"
        ),
    )
    parser.set_defaults(victim=None)
    add_reach_options(parser, limit=MOST_CLASSES)
    scenarios.add_limit_option(parser)
    scenarios.add_outside_option(parser)
    common.add_output_options(parser)
    parser.set_defaults(default_of=parser.get_default)


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Print a probe, the matrix, or what a scenario needs."""
    if args.save:
        files.check_writable(args.save)
    if args.probe is not None:
        return _print_probe(args, out)
    if args.scenario is not None:
        return _need(args, out, err)
    for name, option in _OF_SCENARIO.items():
        if getattr(args, name) != args.default_of(name):
            raise InputError(f"{option} says something of a scenario, and none is given")
    return _matrix(args, out, err)


def _print_probe(args: argparse.Namespace, out: IO[str]) -> ExitCode:
    if args.scenario is not None:
        raise InputError("--probe prints a probe that ships; leave the scenario out")
    try:
        text = samples.probe_text(args.probe)
    except KeyError:
        raise InputError(
            f"there is no probe {args.probe!r}", advice=suggestion(args.probe, list(PROBE_NAMES))
        ) from None
    if args.save:
        files.save_atomically(args.save, text.encode(), shared=True)
    else:
        out.write(text)
    return ExitCode.OK


def _matrix(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    form = files.chart_form(args.chart) if args.chart is not None else None
    listener = Reporter(err, quiet=args.quiet, progress=not args.json)
    targets = [find_target(one, listener) for one in args.target or [None]]
    matrices = [levels(target, listener=listener) for target in targets]
    if args.chart is not None and form is not None:
        from catenum.render.figure import to_bytes
        from catenum.render.levels_figure import levels_figure

        drawn = to_bytes(levels_figure(matrices), form)
        files.save_atomically(args.chart, drawn, shared=True)
        common.teller(err, args.quiet or args.json)(f"Drawn: {args.chart}")
    shown = [target.shown for target in targets]
    values = [matrix_value(one, name) for one, name in zip(matrices, shown, strict=True)]
    text = formats.dumps(values[0] if len(values) == 1 else _several(matrices, values)) + "\n"
    if args.save:
        files.save_atomically(args.save, text.encode())
    if args.json:
        out.write(text)
        return ExitCode.OK
    console = common.console_for(args, out)
    if args.quiet or args.brief:
        for matrix in matrices:
            for level in matrix.levels:
                happening = [
                    c.probe for c in matrix.cells if (c.level, c.result) == (level, "happens")
                ]
                told = ", ".join(happening) or "nothing"
                say(console, f"{matrix.server} {matrix.version}, {level}: {told} can happen")
    else:
        print_matrices(console, matrices, shown)
    if not args.quiet:
        say(console)
        common.say_next(
            console,
            "catenum levels SCENARIO   (which level your transactions need)",
            "catenum levels --probe write-skew   (a probe, to play)",
        )
    return ExitCode.OK


def matrix_value(matrix: Matrix, target: str) -> dict[str, Any]:
    """A matrix as ``core.formats.MatrixFile``."""
    return {
        "format": MATRIX_FORMAT,
        "target": target,
        "server": matrix.server,
        "version": matrix.version,
        "default_level": matrix.default_level,
        "levels": list(matrix.levels),
        "cells": [asdict(cell) for cell in matrix.cells],
        "changed": [asdict(one) for one in matrix.changed],
        "same_levels": [list(levels) for levels in matrix.same_levels],
        "stricter": [[cell.probe, cell.level] for cell in matrix.stricter],
        "weaker": [[cell.probe, cell.level] for cell in matrix.weaker],
    }


def _several(matrices: list[Matrix], values: list[dict[str, Any]]) -> dict[str, Any]:
    return {
        "format": MATRIX_FORMAT,
        "servers": values,
        "differences": [
            {"probe": probe, "level": level, "results": list(results)}
            for probe, level, results in differences(matrices)
        ],
    }


# -- what a scenario needs -------------------------------------------------------------------------


def _need(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    if args.chart is not None:
        raise InputError("--chart draws the matrix of a server; leave the scenario out")
    if args.target is not None and len(args.target) > 1:
        raise InputError("with a scenario, --target can be given once")
    listener = Reporter(err, quiet=args.quiet, progress=not args.json)
    file = load(args.scenario)
    args.target, args.isolation = args.target[0] if args.target else None, ()
    options = space_options(args, listener)
    target = target_of(file, options)
    options["target"] = target
    found = need(file, retries=args.retry, **options)
    text = formats.dumps(need_value(found, target.shown)) + "\n"
    if args.save:
        files.save_atomically(args.save, text.encode())
    if args.json:
        out.write(text)
    else:
        console = common.console_for(args, out)
        if args.quiet or args.brief:
            each = ", ".join(f"{name} {level or 'none'}" for name, level in found.each.items())
            say(console, f"{found.scenario}: all at {found.uniform or 'none'}; {each}")
        else:
            print_need(console, found, target.shown)
        if not args.quiet:
            say(console)
            scenario = shlex.quote(args.scenario)
            common.say_next(console, f"catenum pace {scenario}   (what each level costs)")
    return ExitCode.OK if found.found else ExitCode.FOUND


def need_value(need: Need, target: str) -> dict[str, Any]:
    """What a scenario needs as ``core.formats.NeedFile``."""
    return {
        "format": NEED_FORMAT,
        "scenario": need.scenario,
        "target": target,
        "server": need.server,
        "version": need.version,
        "default_level": need.default_level,
        "retries": need.retries,
        "uniform": need.uniform,
        "each": need.each,
        "levels": [asdict(one) for one in need.levels],
        "assignment": asdict(need.assignment) if need.assignment is not None else None,
        "tried": need.tried,
        "all_tried": need.all_tried,
        "why_not": list(need.why_not),
        "notes": list(need.notes),
    }
