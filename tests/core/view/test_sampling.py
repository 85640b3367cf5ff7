from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.image.pyramid import Pyramid
from rilievo.core.view.sampling import Viewport, levels_of, sampled, sampled_labels
from tests.core.helpers.view import LOOKS, painted


def test_levels_keep_the_mean() -> None:
    rng = np.random.default_rng(0)
    full = rng.normal(size=(512, 256)).astype(np.float32)
    pyramid = Pyramid(full)
    assert [level.shape for level in pyramid.levels[:3]] == [(512, 256), (256, 128), (128, 64)]
    assert min(pyramid.levels[-1].shape) == 8
    for level in pyramid.levels:
        assert level.mean() == pytest.approx(full.mean(), abs=1e-6)
    assert [pyramid.level_for(z) for z in (4, 1, 0.6, 0.5, 0.3, 0.25, 0.01)] == [
        0, 0, 0, 1, 1, 2, 5,
    ]  # fmt: skip


@pytest.mark.parametrize("bottom_up", [False, True])
@pytest.mark.parametrize("zoom", [1.0, 2.0, 7.3])
def test_from_zoom_one_up_a_screen_pixel_shows_the_pixel_under_it(
    zoom: float, bottom_up: bool
) -> None:
    values = np.arange(20.0).reshape(4, 5)
    view = Viewport(-1.0, -0.5, zoom, 60, 50, bottom_up)
    shown, rows, columns = sampled(Pyramid(values), view)
    labels = sampled_labels(values.astype(np.int32), view)
    np.testing.assert_array_equal(shown, labels)
    for i, screen_y in enumerate(range(rows.start, rows.stop)):
        for j, screen_x in enumerate(range(columns.start, columns.stop)):
            x = int(np.floor(-1.0 + (screen_x + 0.5) / zoom))
            row = -0.5 + (screen_y + 0.5) / zoom
            y = int(np.floor(4 - row if bottom_up else row))
            assert shown[i, j] == values[y, x]


def test_below_zoom_one_a_gradient_stays_a_gradient() -> None:
    values = np.tile(np.arange(512.0), (512, 1)).astype(np.float32)
    view = Viewport(0, 0, 0.3, 150, 150)
    shown, _, _ = sampled(Pyramid(values), view)
    middle = shown[70, 5:-5]
    np.testing.assert_allclose(np.diff(middle), 1 / 0.3, rtol=1e-3)
    np.testing.assert_allclose(middle[0], (5 + 0.5) / 0.3 - 0.5, atol=1.0)


def test_an_image_beside_the_screen_shows_ground_only() -> None:
    view = Viewport(100, 100, 1.0, 8, 6)
    picture = painted(Pyramid(np.zeros((5, 5))), view, (0, 1), LOOKS)
    assert (picture == 9).all()


@pytest.mark.parametrize(
    ("values", "ends", "expected"),
    [
        ([0, 5, 10, 20, -3], (0, 10), [0, 2047, 4095, 4095, 0]),
        ([1.0, 2.0, 3.0], (2, 2), [0, 0, 4095]),
        ([np.nan, 1.0], (0, 1), [0, 4095]),
    ],
)
def test_levels(values: list[float], ends: tuple[float, float], expected: list[int]) -> None:
    assert levels_of(np.array(values, np.float32), *ends).tolist() == expected
