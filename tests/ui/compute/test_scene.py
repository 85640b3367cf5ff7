"""What a picture is painted of, without a window."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from PyQt6.QtGui import QColor, QImage

from rilievo.core.image.image import Sample
from rilievo.core.method.method import Method, step_use
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.view.palettes import ViewStyle
from rilievo.core.view.sampling import Viewport
from rilievo.ui.compute.scene import Scene
from tests.core.helpers.view import LOOKS

PIXELS = np.arange(12, dtype=np.uint16).reshape(3, 4) * 10
WHOLE = Viewport(0, 0, 2.0, 8, 6)


@pytest.fixture
def scene() -> Scene:
    sample = Sample.from_array(PIXELS, name="ramp")
    return Scene(sample, "gray", None, (0.0, 110.0), shape=PIXELS.shape)


def grays(image: QImage) -> np.ndarray:
    """Of the middle of each image pixel at two screen pixels a pixel."""
    return np.array(
        [[QColor(image.pixel(2 * x + 1, 2 * y + 1)).red() for x in range(4)] for y in range(3)]
    )


def test_values_become_grays_of_the_display_range(scene: Scene) -> None:
    cache = AnalysisCache()
    np.testing.assert_array_equal(scene.values(cache), PIXELS)
    expected = PIXELS / 110 * 255
    assert np.abs(grays(scene.painted(cache, WHOLE, LOOKS)) - expected).max() <= 1
    narrow = replace(scene, display=(40.0, 80.0))
    expected = np.clip((PIXELS - 40.0) / 40, 0, 1) * 255
    assert np.abs(grays(narrow.painted(cache, WHOLE, LOOKS)) - expected).max() <= 1


def test_with_a_method_the_signal_is_shown(scene: Scene) -> None:
    method = Method(steps=(step_use("b", "background.level", level=30),))
    signal = replace(scene, method=method)
    np.testing.assert_array_equal(signal.values(AnalysisCache()), PIXELS - 30.0)
    picture = grays(signal.painted(AnalysisCache(), WHOLE, LOOKS))
    assert np.abs(picture - np.clip((PIXELS - 30.0) / 110, 0, 1) * 255).max() <= 1


def test_a_threshold_that_is_dragged_floods_what_it_leaves_out(scene: Scene) -> None:
    previewed = replace(
        scene, preview=(55.0, "bright"), flood=True, lines=False, outline_channel="gray"
    )
    image = previewed.painted(AnalysisCache(), WHOLE, LOOKS)
    flooded = np.array(
        [[QColor(image.pixel(2 * x + 1, 2 * y + 1)).blue() for x in range(4)] for y in range(3)]
    )
    # Half the flood's blue, 100, over what is below; what is above stays gray.
    below = PIXELS <= 55
    assert (flooded[~below] == grays(image)[~below]).all()
    assert np.abs(flooded[below] - grays(image)[below] - 100).max() <= 1


def test_what_looks_the_same_is_named_the_same(scene: Scene) -> None:
    assert scene.looks_like() == replace(scene, shape=(3, 4)).looks_like()
    for other in (
        replace(scene, display=(0.0, 90.0)),
        replace(scene, method=Method()),
        replace(scene, preview=(3.0, "dark")),
        replace(scene, style=ViewStyle(stretch="equal")),
        replace(scene, labels=np.zeros((3, 4), np.int32)),
    ):
        assert scene.looks_like() != other.looks_like()
