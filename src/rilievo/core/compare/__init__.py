"""Groups of samples side by side: values, statistics, tests, curves, sentences."""

from rilievo.core.compare.choices import Choices, choices_of, coerce_question
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
from rilievo.core.compare.wording import heading, sentences

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
    "coerce_question",
    "compare",
    "compare_all",
    "confidence_interval",
    "group_order",
    "heading",
    "sentences",
]
