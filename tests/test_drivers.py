"""A server whose Python driver is not installed: said so, and no other server is affected."""

from __future__ import annotations

import os
import subprocess
import sys

import pytest

from conftest import needs

HIDDEN = "import sys; sys.modules[{module!r}] = None; from catenum.cli.main import main; sys.exit(main({words!r}))"


def without(module: str, *words: str) -> subprocess.CompletedProcess:
    code = HIDDEN.format(module=module, words=list(words))
    return subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, env=os.environ, check=False)


def test_postgresql_runs_without_the_driver_of_mariadb(kept):
    done = without("pymysql", "play", "tug-upgrade", "--quiet", "--expect", "deadlock")
    assert (done.returncode, done.stderr) == (0, "")


@pytest.mark.parametrize(
    ("module", "target"), [("pymysql", "mariadb://127.0.0.1:1"), ("psycopg", "postgresql://127.0.0.1:1/harbour")]
)
@pytest.mark.parametrize("command", [["play", "berth-swap"], ["now"]])
def test_a_missing_driver_is_named_with_what_to_install(module, target, command):
    done = without(module, *command, "--target", target)
    assert done.returncode == 3
    assert "is not installed" in done.stderr
    assert f"pip install {module}" in done.stderr
    assert "Traceback" not in done.stderr


def test_a_private_server_needs_its_driver(tmp_path):
    needs("mariadb")
    done = without("pymysql", "play", "berth-swap", "--target", "local:mariadb")
    assert (done.returncode, "pip install pymysql" in done.stderr) == (3, True)
