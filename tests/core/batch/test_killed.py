"""A batch that is ended by force at any moment goes on as if nothing had happened."""

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
KILLS, SAMPLES = 20, 160


def command(out: Path, folder: Path, method: Path, jobs: int) -> list[str]:
    # Processes from the first sample on.
    start = "import sys; from rilievo.core.batch import workers; workers.START_SECONDS = 0.0; "
    return [
        sys.executable, "-c", f"{start}from rilievo.cli import main; main(sys.argv[1:])", "run",
        str(method), str(folder), "--out", str(out), "--jobs", str(jobs), "--json-lines",
    ]  # fmt: skip


def killed_after_some(order: list[str], wait: float) -> list[str]:
    """Start a run, end it by force a moment after its first sample; what it told of, by name."""
    with subprocess.Popen(
        order, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True, start_new_session=True
    ) as process:
        assert process.stdout is not None
        told = []
        for line in process.stdout:
            event = json.loads(line)
            if event["event"] == "sample" and event["status"] == "measured":
                told.append(event["sample"])
                break
        time.sleep(wait)
        process.send_signal(signal.SIGKILL)
        # Workers end with their parent, or the pipe would stay open here for ever.
        told += [
            event["sample"]
            for event in map(json.loads, process.stdout.read().splitlines()[:-1])
            if event["event"] == "sample" and event["status"] == "measured"
        ]
    return told


@pytest.mark.parametrize("jobs", [1, 2])
def test_killed_at_random_moments_it_ends_with_the_same_table(
    write_tiff: Callable[..., Path], tmp_path: Path, jobs: int
) -> None:
    rng = np.random.default_rng(jobs)
    for k in range(SAMPLES):
        pixels = rng.integers(90, 110, (200, 200)).astype(np.uint16)
        for x, y in rng.integers(10, 180, (12, 2)):
            pixels[y : y + 9, x : x + 7] = 400
        write_tiff(f"in/{'ab'[k % 2]}-{k // 2 + 1}.tif", pixels)
    METHOD.save(tmp_path / "m.json")
    whole, torn = tmp_path / "whole", tmp_path / "torn"
    kills = KILLS - 4 if jobs == 1 else 4
    known: set[str] = set()
    for _ in range(kills):
        told = killed_after_some(
            command(torn, tmp_path / "in", tmp_path / "m.json", jobs), rng.uniform(0, 0.12)
        )
        assert told, "each run gets somewhere"
        # What was told as measured is not measured again.
        assert not known & set(told)
        known |= set(told)
    for out in (torn, whole):
        subprocess.run(
            command(out, tmp_path / "in", tmp_path / "m.json", jobs), check=True,
            stdout=subprocess.DEVNULL,
        )  # fmt: skip
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
