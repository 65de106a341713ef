"""Throwaway servers that Catenum starts for itself, on a socket that only it can reach, and stops
again.
"""

from catenum.engines.private.slots import (
    PrivateServer,
    kept_servers,
    private_server,
    start_kept,
    stop_kept,
)

__all__ = ["PrivateServer", "kept_servers", "private_server", "start_kept", "stop_kept"]
