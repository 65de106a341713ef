"""Processes that must not outlive the one that started them, however it ends, nor take all of the
memory.
"""

from __future__ import annotations

import contextlib
import ctypes
import signal
import sys
from collections.abc import Callable

_PR_SET_PDEATHSIG = 1  # prctl(2)


def limit_memory(size: int) -> None:
    """From now on this process gets ``size`` bytes of memory at most (Linux; elsewhere nothing
    happens): beyond that the C library has none for a driver, and Python raises MemoryError.
    """
    if sys.platform != "linux":
        return
    import resource

    with contextlib.suppress(OSError, ValueError):  # a lower limit stands already
        with open("/proc/self/statm", encoding="ascii") as statm:
            used = int(statm.read().split()[5]) * resource.getpagesize()
        _, most = resource.getrlimit(resource.RLIMIT_DATA)
        resource.setrlimit(resource.RLIMIT_DATA, (used + size, most))


def tie(how: signal.Signals) -> Callable[[], None]:
    """For the child to call: from then on the kernel sends it ``how`` when its parent ends (Linux;
    elsewhere nothing happens). The library is loaded here, since a child between fork and exec
    should not load any.

    A parent that ended before the call is not noticed: compare ``os.getppid`` where that matters.
    """
    if sys.platform != "linux":
        return lambda: None
    prctl = ctypes.CDLL(None, use_errno=True).prctl
    return lambda: prctl(_PR_SET_PDEATHSIG, how)
