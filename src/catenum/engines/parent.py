"""Processes that must not outlive the one that started them, however it ends."""

from __future__ import annotations

import ctypes
import signal
import sys
from collections.abc import Callable

_PR_SET_PDEATHSIG = 1  # prctl(2)


def tie(how: signal.Signals) -> Callable[[], None]:
    """For the child to call: from then on the kernel sends it ``how`` when its parent ends (Linux; elsewhere nothing
    happens). The library is loaded here, since a child between fork and exec should not load any.

    A parent that ended before the call is not noticed: compare ``os.getppid`` where that matters.
    """
    if sys.platform != "linux":
        return lambda: None
    prctl = ctypes.CDLL(None, use_errno=True).prctl
    return lambda: prctl(_PR_SET_PDEATHSIG, how)
