"""All ways in which parameters coincide: what ``sweep`` says beside every assignment walked by hand,
scenarios of captured values as code, and proposals that hold for all values.
"""

from __future__ import annotations

import os

import pytest

import catenum
from enumerating.coincide import coinciding, walked
from enumerating.sessions import bench_on, kept_sockets

SEEDS = {"postgresql": range(1, 41), "mariadb": range(1, 31), "mysql": range(1, 31)}
QUICK = {"postgresql": 4, "mariadb": 2, "mysql": 2}


@pytest.mark.parametrize(
    ("server", "seed"),
    [
        pytest.param(server, seed, marks=[] if number < QUICK[server] else pytest.mark.soak)
        for server, seeds in SEEDS.items()
        for number, seed in enumerate(seeds)
    ],
)
def test_sweep_says_what_walking_every_assignment_shows(request, server, seed, tmp_path):
    request.getfixturevalue({"postgresql": "kept"}.get(server, f"kept_{server}"))
    made = coinciding(server, seed)
    path = tmp_path / "coinciding.yaml"
    path.write_text(made.scenario())
    found = catenum.sweep(path, target=f"local:{server}")
    assert not found.faults
    together = [
        case for case in found.cases if {m.name for m in case.members} == {"north", "south"}
    ]
    said = {key for case in together for key in case.keys}
    said |= {"clean serial"} if any(not case.ran for case in together) else set()
    bench = bench_on(server, kept_sockets(server), 3, f"coinciding_{os.getpid()}")
    try:
        outcomes, raced = walked(made, bench)
    finally:
        bench.close()
    assert raced or not found.proven or said == outcomes, path.read_text()
