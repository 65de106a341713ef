"""Which process of this machine has the client's end of a connection, where this user may see
it.
"""

from __future__ import annotations

from catenum.core.snapshot.across import Ends


def client_ends() -> Ends:
    """Address and port of every TCP connection of this machine, with the process that has it; empty
    where that is not to be seen. It reads the open files of every process, so it is only asked for
    where somebody waits.
    """
    import psutil

    try:
        found = psutil.net_connections(kind="tcp")
    except (psutil.Error, OSError):
        return {}
    ends = {}
    for one in found:
        if one.pid and one.laddr and one.raddr:
            ends[one.laddr.ip, one.laddr.port] = one.pid
            if one.laddr.ip in ("127.0.0.1", "::1"):
                ends["localhost", one.laddr.port] = one.pid
    return ends
