from __future__ import annotations

from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.report.page import extremes
from rilievo.core.table.number_reference import find_reference, reference_of
from tests.core.helpers.measure_parts import spots


def test_a_number_is_found_by_its_name() -> None:
    sample, method = spots()
    table = Analysis(sample, method).table()
    name = reference_of(table, 2, "b", "sd")
    assert name == "spots / cell 2 / b / sd"
    assert find_reference(name, [table]) == ("spots", 2, "b", "sd")
    assert find_reference("spots/2", [table]) == ("spots", 2, "a", "mean")
    assert find_reference("spots", [table]) == ("Write sample / class number / channel / quantity.")
    told = extremes([table], each=1)
    assert [(what, where) for what, where, _ in told[:2]] == [
        ("smallest, Mean (counts)", "spots / cell 1 / a / mean"),
        ("largest, Mean (counts)", "spots / cell 3 / a / mean"),
    ]
