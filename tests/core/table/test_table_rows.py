from __future__ import annotations

import pytest

from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.table.table import chosen_frame
from tests.core.helpers.columns import compartments


def test_chosen_rows_of_several_classes_are_copied_in_their_order() -> None:
    sample, method = compartments()
    found = Analysis(sample, method).table()
    rows = [("s", int(region), "gray") for region in (found.ids[3], found.ids[0], found.ids[2])]
    frame = chosen_frame([found], rows).to_pandas()
    assert frame["class"].tolist() == ["nucleus", "cell", "nucleus"]
    assert frame["region"].tolist() == [2, 1, 1]
    assert frame["mean"].tolist() == [20, pytest.approx(12), 40]
