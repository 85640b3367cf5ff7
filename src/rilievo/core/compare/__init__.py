"""Groups of samples side by side: values, statistics, tests, curves, sentences."""

from rilievo.core.compare.comparison import Comparison, compare, compare_all
from rilievo.core.compare.groups import GroupStatistics, Outlier, confidence_interval
from rilievo.core.compare.observations import (
    UNGROUPED,
    Attributes,
    SamplePoint,
    attribute_names,
    group_order,
)
from rilievo.core.compare.question import Normalising, Question

__all__ = [
    "UNGROUPED",
    "Attributes",
    "Comparison",
    "GroupStatistics",
    "Normalising",
    "Outlier",
    "Question",
    "SamplePoint",
    "attribute_names",
    "compare",
    "compare_all",
    "confidence_interval",
    "group_order",
]
