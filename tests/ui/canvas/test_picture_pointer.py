"""The pointer where the picture before was larger."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np

from rilievo.ui.shell.window import Window


def test_pixels_around_a_pointer_beyond_a_smaller_picture(
    window: Window,
    write_tiff: Callable[..., Path],
    add: Callable[..., Window],
    settle: Callable[[], None],
) -> None:
    """Nothing is drawn there, and the picture goes on being painted."""
    large = write_tiff("large.tif", np.arange(90 * 120, dtype=np.uint16).reshape(90, 120))
    small = write_tiff("small.tif", np.full((20, 30), 7, np.uint16))
    add(large, small)
    settle()
    picture, session = window.views.area.picture, window.session
    session.focus.set_reach(7)
    session.focus.set(sample_id=session.state.samples[1].id)
    settle()
    for under in ((110, 5), (5, 80), (-4, 5), (29, 19)):
        picture.under = under
        picture.repaint()
        assert not picture.grab().isNull()
