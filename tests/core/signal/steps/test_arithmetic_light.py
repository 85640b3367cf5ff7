"""Pictures under a lamp that changes are alike afterwards."""

from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.image.image import Plane, Sample
from rilievo.core.method.class_definition import ClassDefinition, ThresholdUse
from rilievo.core.method.method import Method, step_use
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.signal.steps.arithmetic_light import NoLight
from tests.core.signal.steps.test_steps_by_value import applied
from tests.outlines import outline

RNG = np.random.default_rng(8)
SCENE = RNG.uniform(50, 60, (30, 40))
SCENE[5:9, 5:9] = 900


def test_a_lamp_drops_out_whatever_its_light() -> None:
    expected = SCENE / np.median(SCENE)
    for lamp in (0.2, 1.0, 3.7):
        found = applied("arithmetic.light", lamp * SCENE).pixels
        assert found == pytest.approx(expected, rel=1e-12)


def test_the_reference_is_what_was_drawn() -> None:
    holed = SCENE.copy()
    holed[20, 20] = np.nan
    patches = [
        {"x": 18, "y": 18, "width": 5, "height": 4},
        {"x": 0, "y": 0, "width": 3, "height": 2},
    ]
    values = np.concatenate([holed[18:22, 18:23].ravel(), holed[0:2, 0:3].ravel()])
    found = applied("arithmetic.light", holed, patches=patches, statistic="mean", level=200.0)
    assert found.pixels == pytest.approx(holed * 200 / np.nanmean(values), nan_ok=True)


@pytest.mark.parametrize("values", [np.zeros((4, 4)), -np.ones((4, 4))])
def test_without_light_it_says_what_to_do(values: np.ndarray) -> None:
    with pytest.raises(NoLight, match="draw it where there is light"):
        applied("arithmetic.light", values)


def test_its_unit_says_that_values_are_relative() -> None:
    from rilievo.core.signal.steps import STEPS  # noqa: PLC0415

    parameters = STEPS["arithmetic.light"].parameters
    assert parameters().signal_unit() == "× reference"
    assert parameters(level=100).signal_unit() == "of a reference of 100"


def test_the_light_inside_a_class_is_the_same_on_all_pictures() -> None:
    """Beads of one channel show where the lamp is read in the other."""
    y, x = np.mgrid[:60, :80]
    bead, dye = np.hypot(x - 20, y - 30) < 9, np.hypot(x - 55, y - 30) < 12
    scene = np.where(bead, 400.0, np.where(dye, 900.0, 20.0)) + RNG.normal(0, 1, (60, 80))
    beads = Plane(np.where(bead, 500.0, 10.0))
    step = step_use("light", "arithmetic.light", inside="bead", level=100.0)
    step = step.model_copy(update={"channels": ("dye",)})
    method = Method(steps=(step,), outlines=(outline(200.0, region_class="bead", channel="beads"),))
    cache = AnalysisCache()
    for lamp, fading in ((1.0, 1.0), (0.4, 0.7)):
        values = lamp * np.where(dye, scene * fading, scene)
        sample = Sample(f"{lamp}", {"beads": beads, "dye": Plane(values)})
        found = Analysis(sample, method, cache).signal("dye").pixels
        np.testing.assert_allclose(found, values * 100 / np.median(values[bead]), rtol=1e-6)
        # The dye fades beside a lamp that no longer does.
        assert found[dye].mean() == pytest.approx(100 * 900 * fading / 400, rel=0.01)
    dark = Sample("dark", {"beads": Plane(np.zeros((60, 80))), "dye": Plane(scene)})
    with pytest.raises(NoLight, match="Sample “dark” has no region “bead”"):
        Analysis(dark, method, cache).signal("dye")


def test_an_automatic_class_is_found_before_its_light_is_made_the_same() -> None:
    y, x = np.mgrid[:60, :80]
    spot = np.hypot(x - 40, y - 30) < 12
    step = step_use("light", "arithmetic.light", inside="spot", statistic="mean")
    automatic = ClassDefinition(region_class="spot", threshold=ThresholdUse.model_validate({}))
    method, cache = Method(steps=(step,), outlines=(automatic,)), AnalysisCache()
    for lamp in (1.0, 0.3):
        sample = Sample(f"{lamp}", {"gray": Plane(lamp * np.where(spot, 600.0, 50.0))})
        np.testing.assert_allclose(
            Analysis(sample, method, cache).signal("gray").pixels, np.where(spot, 1.0, 50 / 600)
        )
        np.testing.assert_array_equal(Analysis(sample, method, cache).regions().labels > 0, spot)
