"""Files that a library cannot be stopped at are tried first in a process that can.

A picture format inside a TIFF (JPEG, JPEG 2000, …) has a size of its own, which may be a thousand
times that of the tile: the try is given time and memory for what the file says, and no more. The
process goes on to the next file, since starting one takes longer than most files; it is ended by
one that takes too much, and when it was not needed for a while.
"""

from __future__ import annotations

import atexit
import json
import os
import resource
import select
import subprocess
import sys
import threading
import time
from functools import lru_cache
from pathlib import Path

from rilievo.core import errors

# Beside what the pixels need: the libraries.
_SECONDS, _BYTES = 10.0, 3_000_000_000
_BYTES_A_SECOND = 4_000_000
_WHOLE = 1_000_000_000
_REMEDY = "it is damaged or made to hurt: export it again from its source"
# A process that imports its libraries on a busy machine.
_START_SECONDS = 120.0
_IDLE_SECONDS = 30.0


def check_bounded(path: Path, identity: str, image: int, decoded: int) -> None:
    """Raise the FileError of a file that cannot be read with what its pixels need.

    identity : of the file, so that it is tried once. decoded : bytes of its pixels.
    """
    if os.environ.get(_TRYING):
        return
    refusal = _tried(path, identity, image, decoded)
    if refusal is not None:
        kind, problem, remedy = refusal
        raise getattr(errors, kind)(path, problem, remedy)


_TRYING = "RILIEVO_TRYING"
_Failure = tuple[str, str, str]


@lru_cache(maxsize=4096)
def _tried(path: Path, identity: str, image: int, decoded: int) -> _Failure | None:
    """Why a file cannot be read in a process of its own; None where it can."""
    del identity
    reader = _IDLE.take()
    try:
        answer = reader.ask(
            (str(path), image, _BYTES + 4 * decoded), _SECONDS + decoded / _BYTES_A_SECOND
        )
        if not answer:
            _IDLE.give(reader)
            return None
        reader.end()
        kind, problem, remedy = answer
    except TimeoutError:
        reader.end()
        return "UnsupportedKind", "takes longer to read than its pixels need", _REMEDY
    except ValueError:  # a signal, or no memory: what would have ended this process
        reader.end()
        return "TooLarge", "takes more memory to read than its pixels need", _REMEDY
    return str(kind), str(problem), str(remedy)


class _ReadingProcess:
    """Reads files one after another and says of each why it cannot be read."""

    def __init__(self) -> None:
        self._process = subprocess.Popen(  # noqa: S603 (own program, no shell)
            [sys.executable, "-m", __name__],
            env={**os.environ, _TRYING: "1"},
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
        )
        self.since = time.monotonic()
        self._started = False

    def ask(self, request: tuple[str, int, int], seconds: float) -> list[str]:
        """Return why a file cannot be read; nothing where it can.

        Raises TimeoutError, ValueError where the process ended.
        """
        if not self._started:
            self._line(_START_SECONDS)
            self._started = True
        stdin = self._process.stdin
        if stdin is None:
            raise ValueError("no way in")
        try:
            stdin.write(json.dumps(request).encode() + b"\n")
            stdin.flush()
        except BrokenPipeError as exc:
            raise ValueError("ended") from exc
        answer: list[str] = json.loads(self._line(seconds))
        self.since = time.monotonic()
        return answer

    def _line(self, seconds: float) -> bytes:
        end, data, out = time.monotonic() + seconds, b"", self._process.stdout
        if out is None:
            raise ValueError("no way out")
        while not data.endswith(b"\n"):
            left = end - time.monotonic()
            if left <= 0 or not select.select([out], [], [], left)[0]:
                raise TimeoutError
            piece = os.read(out.fileno(), 65_536)
            if not piece:
                raise ValueError("ended")
            data += piece
        return data

    def end(self) -> None:
        """End the process."""
        self._process.kill()
        for pipe in (self._process.stdin, self._process.stdout):
            if pipe is not None:
                pipe.close()
        self._process.wait()


class _Idle:
    """Processes that wait for a file; those not needed for a while are ended."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._waiting: list[_ReadingProcess] = []
        self._timer: threading.Timer | None = None

    def take(self) -> _ReadingProcess:
        """Return one that waits, or a new one."""
        with self._lock:
            if self._waiting:
                return self._waiting.pop()
        return _ReadingProcess()

    def give(self, reader: _ReadingProcess) -> None:
        """Let one wait."""
        with self._lock:
            self._waiting.append(reader)
            if self._timer is None:
                self._timer = threading.Timer(_IDLE_SECONDS, self._look)
                self._timer.daemon = True
                self._timer.start()

    def _look(self) -> None:
        before = time.monotonic() - _IDLE_SECONDS
        with self._lock:
            old = [process for process in self._waiting if process.since <= before]
            self._waiting = [process for process in self._waiting if process.since > before]
            self._timer = None
            if self._waiting:
                self._timer = threading.Timer(_IDLE_SECONDS, self._look)
                self._timer.daemon = True
                self._timer.start()
        for process in old:
            process.end()

    def end_all(self) -> None:
        """End all that wait, with this process."""
        with self._lock:
            waiting, self._waiting = self._waiting, []
            if self._timer is not None:
                self._timer.cancel()
        for process in waiting:
            process.end()


_IDLE = _Idle()
atexit.register(_IDLE.end_all)


def _try(path: Path, image: int, most: int) -> list[str]:
    """Read a file within so many bytes of memory; return why that failed."""
    from rilievo.core.files.reader import (  # noqa: PLC0415 (readers import this module)
        read_layout,
        read_sample,
    )

    hard = resource.getrlimit(resource.RLIMIT_AS)[1]
    most_here = most if hard == resource.RLIM_INFINITY else min(most, hard)
    resource.setrlimit(resource.RLIMIT_AS, (most_here, hard))
    try:
        layout = read_layout(path, image)
        # Of what is too large to be read at once, the first plane tells how the others are.
        long = most > _BYTES + 4 * _WHOLE and layout.count > 1
        first = layout.taken_as("time").frames()[0] if long else None
        read_sample(path, image, first, checksum=False)
    except errors.FileError as exc:
        return [type(exc).__name__, exc.problem, exc.remedy]
    return []


def _serve() -> None:
    """Read the files that the lines of standard input name, and answer each by a line."""
    from rilievo.core.files.reader import READERS  # noqa: PLC0415 (readers import this module)

    sys.stdout.write(f"{len(READERS)} readers\n")
    sys.stdout.flush()
    for line in sys.stdin:
        path, image, most = json.loads(line)
        sys.stdout.write(json.dumps(_try(Path(path), image, most)) + "\n")
        sys.stdout.flush()


if __name__ == "__main__":
    _serve()
