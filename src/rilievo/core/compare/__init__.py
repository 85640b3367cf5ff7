"""Groups of samples side by side: values, statistics, tests, curves, sentences."""

from rilievo.core.compare.choices import Choices, choices_of, fitted
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
    "Choices",
    "Comparison",
    "GroupStatistics",
    "Normalising",
    "Outlier",
    "Question",
    "SamplePoint",
    "attribute_names",
    "choices_of",
    "compare",
    "compare_all",
    "confidence_interval",
    "fitted",
    "group_order",
]
