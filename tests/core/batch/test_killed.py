"""A batch that is ended by force around any commit goes on as if nothing had happened."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas
import pytest

from rilievo.core.method.method import Method
from tests.outlines import outline

pytestmark = pytest.mark.slow

METHOD = Method(outlines=(outline(200.0),))
SAMPLES = 12
# Ended by its own hand just before, in the midst of, or just after the n-th commit of results, and
# while the tables are written. Processes are started from the first sample on.
START = """
import os, signal, sys
from rilievo.core import atomic_write
from rilievo.core.batch import store, workers
workers.START_SECONDS = 0.0
moment, count = sys.argv[1], int(sys.argv[2])
commits = 0
def end():
    os.kill(os.getpid(), signal.SIGKILL)
put_all = store.ResultStore.put_all
def put(self, outcomes):
    global commits
    commits += 1
    if commits == count and moment == "before":
        end()
    if commits == count and moment == "within":
        self._database.set_trace_callback(lambda text: text.startswith("COMMIT") and end())
    put_all(self, outcomes)
    if commits == count and moment == "after":
        end()
store.ResultStore.put_all = put
if moment == "writing":
    os.replace = lambda *names: end()
from rilievo.cli import main
main(sys.argv[3:])
"""
MOMENTS = (("before", 1), ("within", 2), ("after", 2), ("writing", 0))


def command(out: Path, folder: Path, jobs: int, moment: tuple[str, int] = ("", 0)) -> list[str]:
    return [
        sys.executable, "-c", START, moment[0], str(moment[1]), "run", str(folder / "m.json"),
        str(folder / "in"), "--out", str(out), "--jobs", str(jobs), "--json-lines", "--no-report",
    ]  # fmt: skip


def killed(order: list[str]) -> list[str]:
    """Run what ends itself by force; the names that it told as measured."""
    ended = subprocess.run(order, stdout=subprocess.PIPE, text=True, check=False)
    assert ended.returncode == -signal.SIGKILL
    events = map(json.loads, ended.stdout.splitlines())
    return [
        event["sample"]
        for event in events
        if event["event"] == "sample" and event["status"] == "measured"
    ]


@pytest.mark.parametrize(("jobs", "moments"), [(1, MOMENTS), (2, MOMENTS[1:3])])
def test_killed_around_a_commit_it_ends_with_the_same_table(
    write_tiff: Callable[..., Path],
    tmp_path: Path,
    jobs: int,
    moments: tuple[tuple[str, int], ...],
) -> None:
    rng = np.random.default_rng(jobs)
    for k in range(SAMPLES):
        pixels = rng.integers(90, 110, (200, 200)).astype(np.uint16)
        for x, y in rng.integers(10, 180, (12, 2)):
            pixels[y : y + 9, x : x + 7] = 400
        write_tiff(f"in/{'ab'[k % 2]}-{k // 2 + 1}.tif", pixels)
    METHOD.save(tmp_path / "m.json")
    whole, torn = tmp_path / "whole", tmp_path / "torn"
    known: set[str] = set()
    for moment in moments:
        told = killed(command(torn, tmp_path, jobs, moment))
        # What was told as measured is not measured again.
        assert not known & set(told)
        known |= set(told)
    assert known, "something was kept of the runs that were ended"
    for out in (torn, whole):
        subprocess.run(command(out, tmp_path, jobs), check=True, stdout=subprocess.DEVNULL)
    assert (torn / "regions.csv").read_bytes() == (whole / "regions.csv").read_bytes()
    frame = pandas.read_csv(torn / "regions.csv")
    assert frame["sample"].nunique() == SAMPLES
    assert not frame.duplicated(["sample", "channel", "region"]).any()


def test_a_study_survives_a_kill_while_it_is_saved(tmp_path: Path) -> None:
    """Saving writes beside the file and moves it into place: old or new, never half."""
    code = """
import sys
from pathlib import Path
from rilievo.core.study.study import StudyState
from rilievo.core.study.study_file import save_study
k = 0
while True:
    k += 1
    save_study(StudyState(name=f"study {k}"), Path(sys.argv[1]))
    print(k, flush=True)
"""
    from rilievo.core.study.study_file import load_study  # noqa: PLC0415

    rng, path = np.random.default_rng(3), tmp_path / "s.rilievo"
    for _ in range(5):
        with subprocess.Popen(
            [sys.executable, "-c", code, str(path)], stdout=subprocess.PIPE, text=True
        ) as process:
            assert process.stdout is not None
            process.stdout.readline()
            time.sleep(rng.uniform(0, 0.05))
            os.kill(process.pid, signal.SIGKILL)
        state = load_study(path).state
        assert state.name.startswith("study ")


def test_a_script_without_a_guard_is_told_what_to_write(
    write_tiff: Callable[..., Path], tmp_path: Path
) -> None:
    for k in range(3):
        write_tiff(f"{k}.tif", np.full((8, 8), k, np.uint8))
    script = tmp_path / "careless.py"
    script.write_text(
        "from pathlib import Path\n"
        "from rilievo.core.batch import Measurer, Resources, RunRequest, workers\n"
        "from rilievo.core.files.sample_ref import samples_for\n"
        "from rilievo.core.method.method import Method\n"
        f"items = samples_for(sorted(Path({str(tmp_path)!r}).glob('*.tif')))\n"
        "workers.START_SECONDS = 0.0\n"
        "request = RunRequest(samples=items, methods=[Method()])\n"
        "Measurer(resources=Resources(jobs=2)).measure(request)\n"
    )
    ended = subprocess.run(
        [sys.executable, str(script)], capture_output=True, text=True, check=False, timeout=120
    )
    assert ended.returncode == 1
    assert 'below `if __name__ == "__main__":`' in ended.stderr
