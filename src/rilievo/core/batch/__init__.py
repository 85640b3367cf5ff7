"""A method over many samples: in this process, in several, on a cluster; stopped and resumed."""

from rilievo.core.batch.measurer import Measurer, Progress, Results
from rilievo.core.batch.outcome import Outcome, finished_tables, measured
from rilievo.core.batch.run_request import Resources, RunRequest
from rilievo.core.batch.store import ResultStore

__all__ = [
    "Measurer",
    "Outcome",
    "Progress",
    "Resources",
    "ResultStore",
    "Results",
    "RunRequest",
    "finished_tables",
    "measured",
]
