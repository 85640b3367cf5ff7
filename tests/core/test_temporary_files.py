"""What a killed program leaves is removed at the next start, and nothing else."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from rilievo.core.atomic_write import write_bytes_safely, write_safely
from rilievo.core.errors import FileUnreadable
from rilievo.core.temporary_files import _folder, listed, remove_left_behind

_KILLED = """
import sys, time
from pathlib import Path
from rilievo.core.atomic_write import write_safely

def fill(target):
    target.write_bytes(b"half")
    print(target, flush=True)
    time.sleep(60)

write_safely(Path(sys.argv[1]), fill)
"""


def test_a_file_of_a_killed_program_is_removed_at_the_next_start(tmp_path: Path) -> None:
    target = tmp_path / "a.csv"
    target.write_bytes(b"old and whole")
    with subprocess.Popen(
        [sys.executable, "-c", _KILLED, str(target)], stdout=subprocess.PIPE, text=True
    ) as process:
        assert process.stdout is not None
        half = Path(process.stdout.readline().strip())
        assert half.read_bytes() == b"half"
        assert remove_left_behind() == []  # it is at work
        process.send_signal(signal.SIGKILL)
    assert half.exists()
    assert remove_left_behind() == [half]
    assert target.read_bytes() == b"old and whole"
    assert sorted(tmp_path.iterdir()) == [target]
    assert not list(_folder().iterdir())


def test_a_list_that_names_something_else_removes_nothing(tmp_path: Path) -> None:
    mine = tmp_path / "mine.txt"
    mine.touch()
    link = tmp_path / ".rilievo-link"
    link.symlink_to(mine)
    with listed(tmp_path / ".rilievo-x"):
        (kept,) = _folder().iterdir()
    dead = subprocess.Popen([sys.executable, "-c", ""])
    dead.wait()
    kept.with_name(kept.name.replace(str(os.getpid()), str(dead.pid))).write_text(f"{mine}\n{link}")
    assert remove_left_behind() == []
    assert mine.exists()
    assert link.is_symlink()


def test_nothing_is_listed_after_writing(tmp_path: Path) -> None:
    write_bytes_safely(tmp_path / "a.txt", b"x")
    assert not list(_folder().iterdir())

    def fail(_: Path) -> None:
        raise OSError(28, "No space left on device")

    with pytest.raises(FileUnreadable, match="free some space there"):
        write_safely(tmp_path / "a.txt", fail)
    assert not list(_folder().iterdir())
    assert (tmp_path / "a.txt").read_bytes() == b"x"
    assert [path.name for path in tmp_path.iterdir()] == ["a.txt"]


_PARENT = """
import os, sys, time
from rilievo.core.batch.workers import _Processes

def busy(seconds):
    end = time.time() + seconds
    while time.time() < end:
        sum(range(1000))

if __name__ == "__main__":
    workers = _Processes(2)
    futures = [workers._pool.submit(busy, 60) for _ in range(2)]
    while len(workers._pool._processes) < 2:
        time.sleep(0.01)
    time.sleep(float(sys.argv[1]))
    print(*workers._pool._processes, flush=True)
    time.sleep(60)
"""


@pytest.mark.slow
def test_workers_end_with_a_killed_parent(tmp_path: Path) -> None:
    script = tmp_path / "parent.py"
    script.write_text(_PARENT)
    with subprocess.Popen(
        [sys.executable, str(script), "3"], stdout=subprocess.PIPE, text=True
    ) as process:
        assert process.stdout is not None
        workers = [int(word) for word in process.stdout.readline().split()]
        assert len(workers) == 2
        process.send_signal(signal.SIGKILL)
    end = time.monotonic() + 60
    while any(map(_lives, workers)) and time.monotonic() < end:
        time.sleep(0.01)
    assert not [one for one in workers if _lives(one)]


def _lives(process: int) -> bool:
    try:
        state = Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[0]
    except OSError:
        return False
    return state != "Z"
