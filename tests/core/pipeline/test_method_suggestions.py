"""Whole methods to begin with: each runs on any picture, and finds what it is for."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest

from rilievo.core.image.image import Sample
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis, measure
from rilievo.core.pipeline.method_suggestions import (
    STARTERS,
    PictureFacts,
    fitting_steps,
    is_fresh,
    offered,
    small_copy,
)

Make = Callable[..., Sample]
SIZE = 200
CENTRES = [(40, 40), (40, 150), (150, 60), (140, 160)]


def discs(ground: float, height: float, tilt: float = 0.0) -> np.ndarray:
    """Four discs of radius 9 on noise; the ground rises by a share of it from left to right."""
    rng = np.random.default_rng(5)
    y, x = np.mgrid[:SIZE, :SIZE]
    values = ground * (1 + tilt * x / SIZE) + rng.normal(0, 4, (SIZE, SIZE))
    for v, u in CENTRES:
        values[(y - v) ** 2 + (x - u) ** 2 <= 81] += height
    return values.astype(np.float32)


def regions(sample: Sample, key: str, position: int = 0) -> int:
    method = STARTERS[key].make(sample, PictureFacts.of(sample))
    return Analysis(sample, method).regions(position).count


def test_bright_and_dark_things_are_found(make_sample: Make) -> None:
    assert regions(make_sample(discs(200, 150)), "bright") == 4
    assert regions(make_sample(discs(600, -250)), "dark") == 4


def test_an_uneven_background_is_taken_off_first(make_sample: Make) -> None:
    sample = make_sample(discs(400, 120, tilt=0.8))
    facts = PictureFacts.of(sample)
    assert facts.is_uneven
    method = STARTERS["bright"].make(sample, facts)
    assert [use.step for use in method.steps] == ["background.mesh"]
    assert regions(sample, "bright") == 4
    assert not PictureFacts.of(make_sample(discs(400, 120))).is_uneven


def test_inside_rest_and_outside_are_three_classes(make_sample: Make) -> None:
    values = discs(200, 100)
    y, x = np.mgrid[:SIZE, :SIZE]
    for v, u in CENTRES:
        values[(y - v) ** 2 + (x - u) ** 2 <= 16] += 200
    sample = make_sample(values)
    method = STARTERS["inside_and_rest"].make(sample, PictureFacts.of(sample))
    assert method.class_names == ("inside", "rest of the cell", "outside")
    assert [regions(sample, "inside_and_rest", k) for k in (0, 1)] == [4, 4]


def test_the_whole_picture_is_every_pixel(make_sample: Make) -> None:
    for shape in ((7, 11), (1, 1), (30, 4)):
        sample = make_sample(np.arange(np.prod(shape), dtype=np.float32).reshape(shape))
        method = STARTERS["whole"].make(sample, PictureFacts.of(sample))
        table = measure(sample, method)
        assert table.column("ch1", "pixel_count").tolist() == [np.prod(shape)]
        assert table.column("ch1", "mean")[0] == pytest.approx((np.prod(shape) - 1) / 2)


@pytest.mark.parametrize(("key", "count"), [("grid", 24), ("lanes", 6)])
@pytest.mark.parametrize("shape", [(120, 200), (200, 120)])
def test_grids_and_lanes_lie_inside_side_by_side(
    make_sample: Make, key: str, count: int, shape: tuple[int, int]
) -> None:
    sample = make_sample(np.ones(shape, np.float32))
    method = STARTERS[key].make(sample, PictureFacts.of(sample))
    found = Analysis(sample, method).regions(0)
    assert found.count == count
    x, y, width, height = found.boxes.T
    assert (x > 0).all() and (x + width < shape[1]).all()
    assert (y > 0).all() and (y + height < shape[0]).all()
    assert found.areas.min() > 0.9 * found.areas.max()


def test_stars_are_found(make_sample: Make) -> None:
    rng = np.random.default_rng(2)
    y, x = np.mgrid[:SIZE, :SIZE]
    values = rng.normal(100, 5, (SIZE, SIZE))
    for v, u in CENTRES:
        values += 900 * np.exp(-((y - v) ** 2 + (x - u) ** 2) / (2 * 1.8**2))
    assert regions(make_sample(values.astype(np.float32)), "stars") == 4


@pytest.mark.parametrize("key", list(STARTERS))
@pytest.mark.parametrize(
    "values",
    [
        np.zeros((1, 1), np.uint8),
        np.zeros((40, 30), np.uint16),
        np.full((20, 20), np.nan, np.float32),
        np.linspace(-50, 50, 900, dtype=np.float32).reshape(30, 30),
    ],
    ids=["one pixel", "zeros", "undefined", "negatives"],
)
def test_each_runs_on_any_picture_and_can_be_saved(
    make_sample: Make, key: str, values: np.ndarray
) -> None:
    sample = make_sample(values)
    method = STARTERS[key].make(sample, PictureFacts.of(sample))
    measure(sample, method)
    assert Method.from_json(method.to_json()) == method


def test_what_fits_comes_first_and_says_why(make_sample: Make) -> None:
    keys = [key for key, _ in offered(PictureFacts.of(make_sample(discs(600, -250))))]
    assert keys[0] == "dark" and set(keys) == set(STARTERS)
    tilted = offered(PictureFacts.of(make_sample(discs(400, 150, tilt=0.5))))
    assert tilted[0][0] == "bright" and "background rises by" in tilted[0][1]
    sky = PictureFacts(tilt=0.0, upper=9.0, lower=1.0, is_sky=True)
    assert offered(sky)[0] == ("stars", "The file comes from a telescope.")


def test_stars_are_not_looked_for_where_nothing_is_as_narrow(make_sample: Make) -> None:
    # Of discs of 19 pixels the search would take half a minute and find nothing.
    facts = PictureFacts.of(make_sample(discs(200, 150)))
    assert not facts.may_have_stars
    assert STARTERS["stars"].why_not(facts) == "no peak as narrow as a star"
    assert STARTERS["bright"].why_not(facts) == ""
    y, x = np.mgrid[:SIZE, :SIZE]
    rng = np.random.default_rng(1)
    star = 100 + 900 * np.exp(-((y - 90) ** 2 + (x - 70) ** 2) / 8) + rng.normal(0, 3, (SIZE, SIZE))
    facts = PictureFacts.of(make_sample(star.astype(np.float32)))
    assert facts.star == pytest.approx(2 * 2.3548, abs=0.2)
    assert STARTERS["stars"].why_not(facts) == ""


def test_only_a_method_as_at_the_beginning_is_fresh(make_sample: Make) -> None:
    assert is_fresh(Method()) and is_fresh(Method(name="other"))
    sample = make_sample(discs(200, 150))
    assert not any(is_fresh(s.make(sample, PictureFacts.of(sample))) for s in STARTERS.values())


def test_a_large_picture_is_tried_on_a_smaller_copy(
    make_sample: Make, monkeypatch: pytest.MonkeyPatch
) -> None:
    sample = make_sample(discs(200, 150))
    assert small_copy(sample) is sample
    monkeypatch.setattr("rilievo.core.pipeline.method_suggestions._MOST_PIXELS", 12_000)
    small = small_copy(sample)
    assert small.first.shape == (100, 100)
    assert small.content != sample.content
    assert regions(small, "bright") == 4


def test_steps_that_fit_say_why(make_sample: Make) -> None:
    assert fitting_steps(make_sample(discs(200, 150))) == []
    tilted = fitting_steps(make_sample(discs(400, 120, tilt=0.8)))
    assert [key for key, _ in tilted] == ["background.mesh"]
    assert "rises by" in tilted[0][1]
    hot = discs(200, 150)
    hot[5, 7] = hot[90, 100] = 4000
    hot[60, 30] = -4000
    assert fitting_steps(make_sample(hot)) == [
        ("repair.outliers", "3 single pixels stand far above or below")
    ]
    for values in (np.zeros((1, 1)), np.zeros((30, 30)), np.full((9, 9), np.nan)):
        fitting_steps(make_sample(values.astype(np.float32)))
