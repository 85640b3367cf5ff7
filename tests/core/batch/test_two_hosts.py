"""A cluster over two hosts with addresses of their own, one of which is cut off in the middle.

The hosts are network namespaces of this machine, joined by a virtual cable.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pandas
import pytest

from rilievo.core.batch import measured
from rilievo.core.files.sample_ref import samples_for
from rilievo.core.method.method import Method, step_use
from rilievo.core.table.table import region_frame
from tests.core.helpers.measuring import run_batch
from tests.outlines import outline

pytest.importorskip("distributed")
pytestmark = [pytest.mark.slow, pytest.mark.filterwarnings("default")]

METHOD = Method(steps=(step_use("smooth", "smooth.median", size=31),), outlines=(outline(200.0),))
PORT = 18786
# Found dead after some seconds, not after minutes.
QUICK = {
    "DASK_DISTRIBUTED__SCHEDULER__WORKER_TTL": "6 s",
    "DASK_DISTRIBUTED__COMM__TIMEOUTS__TCP": "12 s",
    "DASK_DISTRIBUTED__COMM__TIMEOUTS__CONNECT": "10 s",
}
# What the asking host does: a batch over the cluster, a line for each sample.
_BATCH = """
import sys
from pathlib import Path
from rilievo.core.batch import Measurer, Resources, RunRequest, measured
from rilievo.core.files.sample_ref import samples_for
from rilievo.core.method.method import Method
from rilievo.core.table.table import region_frame

folder, method, address, out = map(Path, sys.argv[1:5])

def report(progress):
    print(progress.done, flush=True)

items = samples_for(sorted(folder.iterdir()))
request = RunRequest(samples=items, methods=(Method.load(method),))
with Measurer(resources=Resources(scheduler=sys.argv[3])) as measurer:
    (outcomes,) = measurer.measure(request, report)
region_frame(measured(outcomes)).to_pandas().to_csv(out, index=False)
"""


class Hosts:
    """Two namespaces, A and B."""

    def __init__(self, name: str, net: int) -> None:
        self.names = {"A": f"{name}a", "B": f"{name}b"}
        self.addresses = {"A": f"10.{net}.3.1", "B": f"10.{net}.3.2"}
        cables = {"A": f"{name}va", "B": f"{name}vb"}
        for host in self.names.values():
            _ip("netns", "add", host)
        _ip("link", "add", cables["A"], "type", "veth", "peer", "name", cables["B"])
        for key, host in self.names.items():
            _ip("link", "set", cables[key], "netns", host)
            _ip("-n", host, "addr", "add", f"{self.addresses[key]}/24", "dev", cables[key])
            _ip("-n", host, "link", "set", cables[key], "up")
            _ip("-n", host, "link", "set", "lo", "up")
        self._cables = cables

    def cut(self, key: str) -> None:
        """Pull the cable out of a host."""
        _ip("-n", self.names[key], "link", "set", self._cables[key], "down")

    def command(self, key: str, *words: object) -> list[str]:
        """Return a Python command that runs on a host."""
        ip = shutil.which("ip") or "ip"
        return [ip, "netns", "exec", self.names[key], sys.executable, *map(str, words)]

    def close(self) -> None:
        for host in self.names.values():
            with contextlib.suppress(subprocess.CalledProcessError):
                _ip("netns", "del", host)


def _ip(*words: str) -> None:
    ip = shutil.which("ip")
    if ip is None:
        pytest.skip("there is no command ip to make network namespaces with")
    subprocess.run([ip, *words], check=True, capture_output=True, text=True)


@pytest.fixture
def hosts() -> Iterator[Hosts]:
    made: Hosts | None = None
    try:
        try:
            made = Hosts(f"r{os.getpid() % 10_000}", 60 + os.getpid() % 100)
        except subprocess.CalledProcessError as exc:
            pytest.skip(f"network namespaces are not permitted here: {exc.stderr.strip()}")
        yield made
    finally:
        if made is not None:
            made.close()


@pytest.fixture
def processes() -> Iterator[Callable[[list[str]], subprocess.Popen[str]]]:
    started: list[subprocess.Popen[str]] = []

    def start(command: list[str]) -> subprocess.Popen[str]:
        process = subprocess.Popen(
            command,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            env={**os.environ, **QUICK, "PYTHONUNBUFFERED": "1"},
        )
        started.append(process)
        return process

    yield start
    for process in reversed(started):
        process.kill()
        process.communicate()


def wait_for(process: subprocess.Popen[str], words: str) -> None:
    """Read what a process prints until some words come."""
    assert process.stdout is not None
    said = []
    for line in process.stdout:
        said.append(line)
        if words in line:
            return
    raise AssertionError("".join(said))


def test_a_batch_goes_on_when_a_host_is_cut_off(
    hosts: Hosts,
    processes: Callable[[list[str]], subprocess.Popen[str]],
    write_tiff: Callable[..., Path],
    blobs: np.ndarray,
    tmp_path: Path,
) -> None:
    rng = np.random.default_rng(1)
    large = np.tile(blobs, (5, 5))
    for number in range(24):
        noise = rng.integers(0, 40, large.shape).astype(np.uint16)
        write_tiff(f"in/{'ab'[number % 2]}-{number:02}.tif", large + noise)
    method, out = tmp_path / "m.json", tmp_path / "out.csv"
    METHOD.save(method)
    address = f"tcp://{hosts.addresses['A']}:{PORT}"
    ask = ("-m", "distributed.cli.dask_scheduler", "--host", hosts.addresses["A"])
    scheduler = processes(hosts.command("A", *ask, "--port", PORT, "--no-dashboard"))
    wait_for(scheduler, "Scheduler at:")
    for key in hosts.names:
        work = ("-m", "distributed.cli.dask_worker", address, "--host", hosts.addresses[key])
        alone = ("--nthreads", 1, "--no-dashboard", "--no-nanny")
        worker = processes(hosts.command(key, *work, *alone))
        wait_for(worker, "Registered to:")
    batch = processes(hosts.command("A", "-c", _BATCH, tmp_path / "in", method, address, out))
    assert batch.stdout is not None
    seen = []
    for line in batch.stdout:
        seen.append(line)
        if line.strip() == "4":
            hosts.cut("B")
            break
    rest, _ = batch.communicate(timeout=180)
    assert batch.returncode == 0, "".join(seen) + rest
    assert rest.split()[-1] == "24"
    items = samples_for(sorted((tmp_path / "in").iterdir()))
    serial = region_frame(measured(run_batch(items, METHOD))).to_pandas()
    serial.to_csv(tmp_path / "serial.csv", index=False)
    pandas.testing.assert_frame_equal(
        pandas.read_csv(out), pandas.read_csv(tmp_path / "serial.csv"), check_exact=True
    )
