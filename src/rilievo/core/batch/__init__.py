"""A method over many samples: in this process, in several, on a cluster; stopped and resumed."""

from rilievo.core.batch.control import Control
from rilievo.core.batch.item import (
    BatchItem,
    Outcome,
    item_of,
    items_at,
    items_for,
    items_of,
    measure_item,
    measure_sample,
    measured,
)
from rilievo.core.batch.running import Progress, Results, run_batch, unfinished
from rilievo.core.batch.store import ResultStore

__all__ = [
    "BatchItem",
    "Control",
    "Outcome",
    "Progress",
    "ResultStore",
    "Results",
    "item_of",
    "items_at",
    "items_for",
    "items_of",
    "measure_item",
    "measure_sample",
    "measured",
    "run_batch",
    "unfinished",
]
