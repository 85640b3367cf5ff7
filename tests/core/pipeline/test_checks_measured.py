from __future__ import annotations

from rilievo.core.pipeline.checks_measured import check_measured, check_measured_batch
from tests.core.helpers.measure_parts import star_table


def test_soft_and_trailed_pictures_are_named() -> None:
    tables = [star_table(f"n{k}", 3.0) for k in range(3)]
    tables += [star_table("soft", 6.0), star_table("trailed", 3.1, 0.5)]
    found = [check for table in tables for check in check_measured(table)]
    assert [(c.sample, c.kind) for c in found] == [("trailed", "trailed")]
    soft = check_measured_batch(tables)
    assert [(c.sample, c.kind) for c in soft] == [("soft", "out of focus")]
    assert "6.0 px wide" in soft[0].text
    assert check_measured_batch(tables[:2]) == []
