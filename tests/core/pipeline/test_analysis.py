from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest

from rilievo.core.errors import StepError
from rilievo.core.image.image import Sample, plane_from_native
from rilievo.core.method.class_definition import ClassDefinition, hand_threshold
from rilievo.core.method.method import Measure, Method, SampleException, step_use
from rilievo.core.pipeline.analysis import Analysis, measure
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.pipeline.pyramids import pyramid_of
from tests.outlines import clean_up, reject

LEVEL = step_use("level", "background.level", level=100.0)


def method(**outline: object) -> Method:
    fields = {"threshold": hand_threshold(100.0), **outline}
    return Method(steps=(LEVEL,), outlines=(ClassDefinition.model_validate(fields),))


def test_one_channel_is_outlined_and_the_other_measured(
    make_sample: Callable[..., Sample], blobs: np.ndarray
) -> None:
    other = np.arange(blobs.size, dtype=np.uint16).reshape(blobs.shape)
    table = measure(make_sample(blobs, other), method(), group="g").table
    assert table["channel"].tolist() == ["ch1"] * 3 + ["ch2"] * 3
    assert table["mean"].tolist()[:3] == [200, 400, 800]
    assert table["background"].tolist()[:3] == pytest.approx([100] * 3)
    inside = other[5:15, 10:30].astype(float)
    assert table.loc[3, "mean"] == pytest.approx(inside.mean() - 100, abs=1e-3)
    assert table.loc[3, "native_mean"] == pytest.approx(inside.mean())
    assert table.loc[0, "area_unit"] == pytest.approx(200 * 0.25)
    assert table["group"].unique().tolist() == ["g"]


def test_the_same_bits_every_time_and_from_the_cache(
    make_sample: Callable[..., Sample], blobs: np.ndarray
) -> None:
    rng = np.random.default_rng(0)
    sample = make_sample(blobs + rng.integers(0, 50, blobs.shape).astype(np.uint16), blobs)
    cache = AnalysisCache()
    tables = [
        measure(sample, method()).table,
        measure(sample, method()).table,
        Analysis(sample, method(), cache).table().table,
        Analysis(sample, method(), cache).table().table,
    ]
    for table in tables[1:]:
        assert table.equals(tables[0])


def test_samples_without_a_file_are_told_apart_by_their_pixels(blobs: np.ndarray) -> None:
    cache = AnalysisCache()
    one, other = (Sample("s", {"gray": plane_from_native(pixels)}) for pixels in (blobs, blobs * 2))
    for sample in (one, other, one):
        peak = float(sample.first.pixels.max())
        assert Analysis(sample, Method(), cache).native_histogram("gray").highest == peak
        assert pyramid_of(Analysis(sample, Method(), cache), "gray").levels[0].max() == peak
        assert Analysis(sample, method(), cache).signal("gray").pixels.max() == peak - 100
    again = Sample("t", {"gray": plane_from_native(blobs.copy())})
    assert again.content == one.content != other.content


def test_only_what_depends_on_a_change_is_computed_again(
    make_sample: Callable[..., Sample], blobs: np.ndarray
) -> None:
    sample, cache = make_sample(blobs), AnalysisCache()
    first = Analysis(sample, method(), cache).signal("ch1")
    assert Analysis(sample, method(threshold=hand_threshold(5.0)), cache).signal("ch1") is first
    other = Method(steps=(step_use("level", "background.level", level=7.0),))
    assert Analysis(sample, other, cache).signal("ch1") is not first
    regions = Analysis(sample, method(), cache).regions()
    assert Analysis(sample, method(), cache).regions() is regions
    assert Analysis(sample, method(clean=clean_up(True, 2)), cache).regions() is not regions


def test_limits_of_area_in_calibrated_units(
    make_sample: Callable[..., Sample], blobs: np.ndarray
) -> None:
    found = method(clean=clean_up(True, 50.0, 99.0, "unit"))
    assert measure(make_sample(blobs), found).ids.size == 1
    with pytest.raises(StepError, match="no pixel size; give the limits in pixels"):
        measure(make_sample(blobs, pixel_size=None), found)


def test_missing_channels_are_named(make_sample: Callable[..., Sample], blobs: np.ndarray) -> None:
    with pytest.raises(StepError, match=r"“s” has no channel “dye”, only ch1"):
        measure(make_sample(blobs), method(channel="dye"))
    wanted = method().changed(measure=Measure(channels=("nope",)))
    with pytest.raises(StepError, match="nope"):
        measure(make_sample(blobs), wanted)


def test_rejected_regions_are_not_measured(
    make_sample: Callable[..., Sample], blobs: np.ndarray
) -> None:
    rejected = method().with_exception("s", SampleException(edits=reject((15, 7))))
    assert measure(make_sample(blobs), rejected).ids.tolist() == [2, 3]
    assert measure(make_sample(blobs, name="other"), rejected).ids.tolist() == [1, 2, 3]


@pytest.mark.parametrize(
    ("pixels", "count"),
    [
        (np.zeros((5, 5), np.uint16), 0),
        (np.full((5, 5), np.nan, np.float32), 0),
        (np.array([[500]], np.uint16), 1),
        (np.full((4, 4), -3.0), 0),
    ],
)
@pytest.mark.parametrize("way", ["hand", "between_class_variance"])
def test_awkward_images_are_measured_without_complaint(
    make_sample: Callable[..., Sample], pixels: np.ndarray, count: int, way: str
) -> None:
    threshold = hand_threshold(100.0) if way == "hand" else {"way": way}
    table = measure(make_sample(pixels), method(threshold=threshold))
    # One level alone cannot be parted, so an automatic threshold finds nothing.
    assert table.ids.size == (count if way == "hand" else 0)
    assert list(table.table.columns[:7]) == [
        "sample", "file", "group", "channel", "region", "class", "marks",
    ]  # fmt: skip


def test_reports_of_a_step(make_sample: Callable[..., Sample], blobs: np.ndarray) -> None:
    patch = {"x": 0, "y": 0, "width": 4, "height": 4}
    two = Method(steps=(LEVEL, step_use("p", "background.patch", patches=[patch])))
    sample, cache = make_sample(blobs), AnalysisCache()
    assert Analysis(sample, two, cache).step_numbers("ch1", "p")["level"] == 0.0
    assert Analysis(sample, two, cache).step_numbers("ch1", "level")["level"] == 100.0
    assert Analysis(sample, two, cache).step_numbers("ch1", "none") == {}
