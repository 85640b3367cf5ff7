"""Numbers of regions stand inside the picture, beside what lies over it, and are thinned out."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest
from PyQt6.QtCore import QRectF
from pytestqt.qtbot import QtBot

from rilievo.ui.canvas.number_positions import _thinned, put_numbers
from rilievo.ui.shell.window import Window


def test_numbers_stay_inside_the_picture_and_off_what_covers_it() -> None:
    boxes = np.array([[100.0, 50, 10, 10], [290, 50, 8, 8], [105, 240, 10, 8]])
    image, key = (100.0, 50.0, 200.0, 200.0), (260.0, 40.0, 60.0, 60.0)
    found = put_numbers([1, 2, 3], boxes, [(20.0, 14.0)] * 3, image, [key])
    assert [one.region for one in found] == [1, 3]
    for one in found:
        assert one.left >= 100 and one.left + one.width <= 300
        assert one.top >= 50 and one.top + one.height <= 250
    # Without the key the second has room as well.
    assert len(put_numbers([1, 2, 3], boxes, [(20.0, 14.0)] * 3, image)) == 3


@pytest.mark.parametrize(
    ("count", "area", "most"), [(15, 250_000, 15), (128, 250_000, 69), (5000, 1e6, 250), (3, 10, 1)]
)
def test_a_crowd_is_thinned_out_evenly(count: int, area: float, most: int) -> None:
    kept = _thinned(count, area)
    assert 1 <= kept.size <= most
    assert kept[0] == 0 and len(set(np.diff(kept).tolist())) <= 1
    assert kept[-1] >= count - 1 - count // kept.size


def test_numbers_of_the_window_lie_in_the_picture(
    study: Window, qtbot: QtBot, settle: Callable[[], None]
) -> None:
    study.session.go_to("outline")
    settle()
    picture = study.views.area.picture
    picture.grab()
    geometry = picture.geometry_now
    assert geometry is not None
    image = geometry.image_box
    positions = picture._over._number_positions._known[2]
    assert len(positions) >= 10
    for one in positions:
        box = QRectF(one.left, one.top, one.width, one.height)
        assert image.contains(box)
        assert not any(box.intersects(covered) for covered in picture.covered)


def test_chips_lie_beside_the_picture_or_on_it(study: Window, settle: Callable[[], None]) -> None:
    settle()
    picture, chips = study.views.area.picture, study.views.area.chips
    geometry = picture.geometry_now
    assert geometry is not None
    # A square picture leaves room at the left: the chips stand there.
    assert chips.geometry().right() < geometry.image_box.left()
    picture.zoom_by(3.0)
    geometry = picture.geometry_now
    assert geometry is not None and geometry.image_box.left() == 0
    assert chips.geometry().height() < 40
