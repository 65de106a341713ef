"""Real logs as people have them: each way in which somebody else writes down a server's lines, with
nothing lost.
"""

from __future__ import annotations

import bz2
import gzip
import json
import lzma
import random
from collections.abc import Callable, Mapping

import zstandard

ISO = "2026-11-25T21:00:00.123456789Z"


def _each(begins: Callable[[int, str], str]) -> Callable[[list[str]], str]:
    return lambda lines: "".join(
        f"{begins(number, line)}\n" for number, line in enumerate(lines, 1)
    )


def _container(lines: list[str]) -> str:
    """A long line is written in two parts, the first of which ends no line."""
    found = []
    for line in lines:
        whole = f"{line}\n"
        for part in (whole[:40], whole[40:]) if len(whole) > 60 else (whole,):
            found.append(json.dumps({"log": part, "stream": "stderr", "time": ISO}))
    return "\n".join(found) + "\n"


def _cri(lines: list[str]) -> str:
    found = []
    for line in lines:
        if len(line) > 60:
            found.append(f"{ISO} stderr P {line[:50]}")
            line = line[50:]
        found.append(f"{ISO} stderr F {line}")
    return "\n".join(found) + "\n"


def _journal(lines: list[str]) -> str:
    rows = (
        {"__REALTIME_TIMESTAMP": "17", "_PID": "7", "MESSAGE": _bytes_if_odd(line)}
        for line in lines
    )
    return "".join(f"{json.dumps(row)}\n" for row in rows)


def _bytes_if_odd(line: str) -> str | list[int]:
    """The journal writes what it takes for no text as a list of bytes."""
    return line if "\t" not in line else list(line.encode())


def _beside(lines: list[str]) -> str:
    """Another service writes between the server's lines."""
    chance, found = random.Random(3), []
    for line in lines:
        found.append(f"port-db-1    | {line}")
        if chance.random() < 0.4:
            found.append('port-gate-1  | {"level": "info", "message": "gate ERROR: none"}')
    return "\n".join(found) + "\n"


#: For logs of lines: a name, and how they are written down.
AROUND: Mapping[str, Callable[[list[str]], str]] = {
    "container": _container,
    "cri": _cri,
    "journal": _journal,
    "journal short": _each(lambda _, line: f"Nov 25 22:00:00 quay dbserver[77]: {line}"),
    "journal iso": _each(lambda _, line: f"2026-11-25T22:00:00+0100 quay dbserver[77]: {line}"),
    "syslog": _each(
        lambda _, line: f"<134>Nov 25 22:00:00 quay dbserver[77]: {line.replace(chr(9), '#011')}"
    ),
    "syslog 5424": _each(
        lambda _, line: f'<134>1 {ISO} quay dbserver 77 - [origin@1 a="]\\"b"] {line}'
    ),
    "services": _each(lambda _, line: f"port-db-1  | {line}"),
    "services mixed": _beside,
    "pods": _each(lambda _, line: f"[pod/port-db-0/server] {line}"),
    "times": _each(lambda _, line: f"{ISO} {line}"),
    "export": _each(
        lambda n, line: json.dumps({"insertId": str(n), "textPayload": line, "severity": "DEFAULT"})
    ),
    "export nested": _each(
        lambda _, line: json.dumps({"jsonPayload": {"message": line}, "resource": {"type": "x"}})
    ),
    "export list": lambda lines: json.dumps(
        [{"@timestamp": ISO, "message": line} for line in lines], indent=1
    ),
    "export events": lambda lines: json.dumps(
        {"events": [{"timestamp": 1, "message": line} for line in lines]}
    ),
    "twice": lambda lines: _each(lambda _, line: f"port-db-1 | {line}")(
        _container(lines).splitlines()
    ),
}
#: For files of any form.
PACKED: Mapping[str, Callable[[bytes], bytes]] = {
    "gzip": gzip.compress,
    "xz": lzma.compress,
    "bzip2": bz2.compress,
    "zstd": lambda data: zstandard.ZstdCompressor().compress(data),
    "gzip twice": lambda data: (
        gzip.compress(data[: len(data) // 2]) + gzip.compress(data[len(data) // 2 :])
    ),
    "bom": lambda data: b"\xef\xbb\xbf" + data,
    "utf-16": lambda data: data.decode().encode("utf-16"),
    "utf-16 be": lambda data: data.decode().encode("utf-16-be"),
}
