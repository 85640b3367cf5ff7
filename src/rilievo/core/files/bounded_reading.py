"""Files that a library cannot be stopped at are tried first in a process that can.

A picture format inside a TIFF (JPEG, JPEG 2000, …) has a size of its own, which may be a thousand
times that of the tile: the try is given time and memory for what the file says, and no more.
"""

from __future__ import annotations

import json
import os
import resource
import subprocess
import sys
from functools import lru_cache
from pathlib import Path

from rilievo.core import errors

# Beside what the pixels need: the start of the process, and its libraries.
_SECONDS, _BYTES = 10.0, 3_000_000_000
_BYTES_A_SECOND = 4_000_000
_REMEDY = "it is damaged or made to hurt: export it again from its source"


def check_bounded(path: Path, identity: str, image: int, decoded: int) -> None:
    """Raise the FileError of a file that cannot be read with what its pixels need.

    identity : of the file, so that it is tried once. decoded : bytes of its pixels.
    """
    if os.environ.get(_TRYING):
        return
    found = _tried(path, identity, image, decoded)
    if found is not None:
        kind, problem, remedy = found
        raise getattr(errors, kind)(path, problem, remedy)


_TRYING = "RILIEVO_TRYING"
_Failure = tuple[str, str, str]


@lru_cache(maxsize=4096)
def _tried(path: Path, identity: str, image: int, decoded: int) -> _Failure | None:
    """Why a file cannot be read in a process of its own; None where it can."""
    del identity
    most = _BYTES + 4 * decoded
    command = [sys.executable, "-m", __name__, str(path), str(image), str(most)]
    try:
        ended = subprocess.run(  # noqa: S603 (own program, no shell)
            command,
            env={**os.environ, _TRYING: "1"},
            timeout=_SECONDS + decoded / _BYTES_A_SECOND,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            check=False,
        )
    except subprocess.TimeoutExpired:
        return "UnsupportedKind", "takes longer to read than its pixels need", _REMEDY
    if ended.returncode == 0:
        return None
    try:
        kind, problem, remedy = json.loads(ended.stdout)
    except ValueError:  # a signal, or no memory: what would have ended this process
        return "TooLarge", "takes more memory to read than its pixels need", _REMEDY
    return str(kind), str(problem), str(remedy)


def _try(path: Path, image: int, most: int) -> int:
    """Read a file within so many bytes of memory; say why that failed."""
    resource.setrlimit(resource.RLIMIT_AS, (most, most))
    from rilievo.core.files.reader import read_sample  # noqa: PLC0415 (within the limit)

    try:
        read_sample(path, image, checksum=False)
    except errors.FileError as exc:
        sys.stdout.write(json.dumps([type(exc).__name__, exc.problem, exc.remedy]))
        return 1
    return 0


if __name__ == "__main__":
    raise SystemExit(_try(Path(sys.argv[1]), int(sys.argv[2]), int(sys.argv[3])))
