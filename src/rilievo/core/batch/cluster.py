"""Samples measured on a Dask cluster; the only module that imports its packages.

Install them with `pip install rilievo[cluster]`. The workers must see the images under the same
paths, and have the same version of Rilievo.
"""

from __future__ import annotations

import re
import threading
from concurrent.futures import Future
from typing import Any

from rilievo._version import __version__
from rilievo.core.batch.result_keys import program
from rilievo.core.batch.task import Task
from rilievo.core.batch.workers import Result, Work
from rilievo.core.errors import RilievoError, WorkerLost

_ADDRESS = re.compile(r"(?:[a-z]+://)?[^/:\s]+:\d+")


class ClusterError(RilievoError):
    """The cluster cannot be used."""


def _version() -> tuple[str, str]:
    return __version__, program()


class Cluster:
    """Performs tasks on the workers of a scheduler.

    A task whose worker dies is begun anew on another; with no worker left it waits for one.
    Raises ClusterError with the address and the remedy.
    """

    def __init__(self, address: str, patience: float = 10.0) -> None:
        try:
            from distributed import Client  # noqa: PLC0415 (an optional package)
        except ImportError as exc:
            raise ClusterError(
                "A cluster needs the packages of the extra “cluster”: pip install "
                "'rilievo[cluster]'."
            ) from exc
        if not _ADDRESS.fullmatch(address):
            raise ClusterError(
                f"“{address}” is no address of a scheduler; it looks like tcp://host:8786."
            )
        try:
            self._client: Any = Client(address, timeout=patience, set_as_default=False)
        except (OSError, TimeoutError) as exc:
            raise ClusterError(
                f"There is no scheduler at “{address}” ({type(exc).__name__}); start one with "
                "“dask scheduler”, or measure in processes."
            ) from exc
        self._check_workers(address)
        self._lock = threading.Lock()

    def _check_workers(self, address: str) -> None:
        threads = self._client.nthreads()
        if not threads:
            self._client.close()
            raise ClusterError(
                f"The scheduler at “{address}” has no worker; start some with “dask worker”."
            )
        try:
            versions = set(self._client.run(_version).values())
        except Exception as exc:  # whatever a foreign process answers, the remedy is the same
            self._client.close()
            raise ClusterError(
                f"The workers of “{address}” cannot run Rilievo ({exc}); install it there."
            ) from exc
        if versions != {_version()}:
            self._client.close()
            theirs = ", ".join(sorted({version for version, _ in versions}))
            raise ClusterError(
                f"The workers of “{address}” have Rilievo {theirs}, this is {__version__}, and "
                "not the same code; install the same everywhere, or numbers could differ."
            )
        self.breadth = self.most = sum(threads.values())
        # A task is on its way for a while.
        self.ahead = 3 * self.breadth

    def expect(self, samples: int) -> None:
        """Hear how many tasks there will be; the cluster has the workers that it has."""

    def renew(self) -> bool:
        """Return False: the cluster starts its workers itself."""
        return False

    def submit(self, work: Work[Result], task: Task) -> Future[Result]:
        """Begin a task."""
        from distributed import KilledWorker  # noqa: PLC0415 (an optional package)

        mine: Future[Result] = Future()
        mine.set_running_or_notify_cancel()
        # A worker that is ended while at work is not held against the sample at once.
        theirs = self._client.submit(work, task, pure=False, retries=3)

        def deliver(ended: Any) -> None:
            try:
                done = ended.result()
            except KilledWorker:
                mine.set_exception(WorkerLost("it ended every worker of the cluster that tried it"))
            except Exception as exc:  # whatever it is, the batch ends with a sentence
                mine.set_exception(
                    ClusterError(
                        f"The cluster was lost while it worked ({type(exc).__name__}); what was "
                        "measured is kept. Start it again, and measure all once more."
                    )
                )
            else:
                mine.set_result(done)

        theirs.add_done_callback(deliver)
        return mine

    def close(self) -> None:
        """Leave the cluster; it goes on for others."""
        self._client.close()
