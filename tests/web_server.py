"""A web server on loopback that shows a folder, counts what is asked for, and can fail."""

from __future__ import annotations

import contextlib
import functools
import threading
from collections.abc import Iterator
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path


class Served:
    """A folder that is served. url : where. asked : the paths that were sent, in order.

    failing : path → how often the next requests for it fail first; forbidden : paths refused.
    """

    def __init__(self, port: int) -> None:
        self.url = f"http://127.0.0.1:{port}/"
        self.asked: list[str] = []
        self.failing: dict[str, int] = {}
        self.forbidden: set[str] = set()


@contextlib.contextmanager
def served(folder: Path) -> Iterator[Served]:
    """Serve a folder as long as the block lasts."""

    class Handler(SimpleHTTPRequestHandler):
        def send_head(self):  # type: ignore[no-untyped-def]
            path = self.path.lstrip("/")
            if path in state.forbidden:
                self.send_error(403)
                return None
            if state.failing.get(path, 0) > 0:
                state.failing[path] -= 1
                self.send_error(503)
                return None
            if self.command == "GET":
                state.asked.append(path)
            return super().send_head()

        def log_message(self, *arguments: object) -> None:
            pass

    server = ThreadingHTTPServer(
        ("127.0.0.1", 0), functools.partial(Handler, directory=str(folder))
    )
    state = Served(server.server_address[1])
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        yield state
    finally:
        server.shutdown()
        server.server_close()
        thread.join()
