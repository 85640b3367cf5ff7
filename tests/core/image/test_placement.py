from __future__ import annotations

import pytest

from rilievo.core.image.image import compose, placed, unplaced


def test_placements_are_put_together_and_undone() -> None:
    one, two = (0.0, -1.0, 5.0, 1.0, 0.0, 0.0), (0.5, 0.0, -0.25, 0.0, 0.5, -0.25)
    both = compose(one, two)
    assert placed(both, 3, 4) == placed(two, *placed(one, 3, 4))
    assert unplaced(both, *placed(both, 3.0, 4.0)) == pytest.approx((3, 4))
