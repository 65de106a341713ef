"""A long way to a server: what is said to its socket, and what it answers, arrives later."""

from __future__ import annotations

import contextlib
import select
import socket
import threading
import time
from pathlib import Path


class SlowLink(threading.Thread):
    """Takes connections at ``door``, and passes them on to the socket ``to``: each piece of the
    client's after a delay.
    """

    def __init__(self, door: Path, to: str, delay_s: float) -> None:
        super().__init__(daemon=True)
        self.delay_s, self.to = delay_s, to
        self.door = socket.socket(socket.AF_UNIX)
        self.door.bind(str(door))
        self.door.listen(8)

    def run(self) -> None:
        while True:
            client, _ = self.door.accept()
            server = socket.socket(socket.AF_UNIX)
            server.connect(self.to)
            threading.Thread(target=self._pass, args=(client, server), daemon=True).start()

    def _pass(self, client: socket.socket, server: socket.socket) -> None:
        with client, server, contextlib.suppress(OSError):
            while True:
                for one in select.select([client, server], [], [])[0]:
                    data = one.recv(65536)
                    if not data:
                        return
                    if one is client:
                        time.sleep(self.delay_s)
                    (server if one is client else client).sendall(data)
