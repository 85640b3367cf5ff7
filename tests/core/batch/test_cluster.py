"""A real Dask cluster of two worker processes on this machine, one of them ended in the middle."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pytest

from rilievo.core.batch import Progress, ResultStore, measured
from rilievo.core.batch import cluster as cluster_module
from rilievo.core.batch.cluster import Cluster, ClusterError
from rilievo.core.files.sample_ref import samples_for
from rilievo.core.method.method import Method
from rilievo.core.table.table import region_frame
from tests.core.helpers.measuring import run_batch
from tests.outlines import outline

distributed = pytest.importorskip("distributed")

METHOD = Method(outlines=(outline(200.0),))
# The packages of the cluster warn of their own doings when processes end.
pytestmark = [pytest.mark.slow, pytest.mark.filterwarnings("default")]


@pytest.fixture
def cluster() -> Iterator[object]:
    with distributed.LocalCluster(
        n_workers=2, threads_per_worker=1, processes=True, dashboard_address=None, silence_logs=50
    ) as started:
        yield started


@pytest.fixture
def files(write_tiff: Callable[..., Path], blobs: np.ndarray) -> list[Path]:
    rng = np.random.default_rng(1)
    return [
        write_tiff(f"in/{group}-{n}.tif", blobs + rng.integers(0, 40, blobs.shape).astype("u2"))
        for group in "ab"
        for n in range(1, 13)
    ]


def test_a_cluster_gives_the_same_bits_also_when_a_worker_dies(
    cluster: object, files: list[Path], tmp_path: Path
) -> None:
    items = samples_for(files)
    address = cluster.scheduler_address  # type: ignore[attr-defined]
    serial = region_frame(measured(run_batch(items, METHOD))).to_pandas()
    spread = region_frame(measured(run_batch(items, METHOD, scheduler=address))).to_pandas()
    assert spread.equals(serial)

    processes = [nanny.pid for nanny in cluster.workers.values()]  # type: ignore[attr-defined]
    ended: list[int] = []

    def report(progress: Progress) -> None:
        if progress.done == 4 and not ended:
            ended.append(processes[0])
            os.kill(processes[0], 9)

    store = ResultStore(tmp_path / "results.sqlite")
    torn = run_batch(items, METHOD, scheduler=address, store=store, report=report)
    assert ended
    assert region_frame(measured(torn)).to_pandas().equals(serial)
    # What the cluster measured is known to every other way.
    heard: list[Progress] = []
    run_batch(items, METHOD, store=store, report=heard.append)
    assert all(progress.known for progress in heard)


def test_what_cannot_be_used_is_said_with_its_remedy(
    cluster: object, monkeypatch: pytest.MonkeyPatch
) -> None:
    address = cluster.scheduler_address  # type: ignore[attr-defined]
    monkeypatch.setattr(cluster_module, "__version__", "0.0")
    with pytest.raises(ClusterError, match="install the same everywhere"):
        Cluster(address)
    with pytest.raises(ClusterError, match=r"no scheduler at “tcp://127\.0\.0\.1:9”"):
        Cluster("tcp://127.0.0.1:9", patience=0.5)
    with pytest.raises(ClusterError, match="“nonsense” is no address of a scheduler"):
        Cluster("nonsense", patience=0.5)


def test_a_scheduler_without_workers_is_said() -> None:
    with (
        distributed.LocalCluster(n_workers=0, dashboard_address=None, silence_logs=50) as empty,
        pytest.raises(ClusterError, match="has no worker"),
    ):
        Cluster(empty.scheduler_address)
