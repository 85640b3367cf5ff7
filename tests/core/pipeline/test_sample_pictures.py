"""Small pictures: made once with the sample, kept with its outcome, painted as the plane is."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from rilievo.core.batch import Measurer, ResultStore
from rilievo.core.errors import StudyError
from rilievo.core.files.sample_ref import samples_for
from rilievo.core.image.image import Sample
from rilievo.core.method.method import Method, step_use
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.pipeline.sample_pictures import (
    SmallPictures,
    SmallPlane,
    chosen_evenly,
    small_pictures,
)
from rilievo.core.report.page import Contents
from rilievo.core.report.page_pictures import as_png, shot_pixels
from rilievo.core.report.study_report import with_pictures
from tests.core.helpers.measuring import run_batch
from tests.outlines import outline

METHOD = Method(
    steps=(step_use("level", "background.level", level=100.0),), outlines=(outline(500.0),)
)


@pytest.fixture
def sample(make_sample: Callable[..., Sample]) -> Sample:
    y, x = np.mgrid[:60, :90]
    values = (100 + 3 * x + y).astype(np.float32)
    values[20:30, 40:60] = 900
    values[50:, :5] = np.nan
    return make_sample(values)


def test_values_are_kept_to_a_part_of_their_range(sample: Sample) -> None:
    small = small_pictures(Analysis(sample, METHOD), 90)
    assert [shot.title.split(":")[0] for shot in small.shots] == [
        "As in the file", "Corrected", "Outlined",
    ]  # fmt: skip
    values = sample.first.as_float()
    plane = small.planes[small.shots[0].key]
    low, high = plane.ends
    np.testing.assert_array_equal(np.isnan(plane.values), np.isnan(values))
    within = (values >= low) & (values <= high)
    assert np.abs(plane.values - values)[within].max() <= 0.004 * (high - low)
    # The step took 100 off; the region is outlined on it.
    corrected = small.planes[small.shots[1].key]
    np.testing.assert_allclose(corrected.ends, (low - 100, high - 100), atol=1e-3)
    assert np.array_equal(small.labels[0] > 0, values == 900)


def test_they_come_back_from_bytes(sample: Sample) -> None:
    small = small_pictures(Analysis(sample, METHOD), 40)
    again = SmallPictures.from_bytes(small.to_bytes())
    assert again.shots == small.shots
    for key, plane in small.planes.items():
        np.testing.assert_array_equal(again.planes[key].codes, plane.codes)
        assert again.planes[key].ends == plane.ends
    np.testing.assert_array_equal(again.labels[0], small.labels[0])
    with pytest.raises(StudyError, match="damaged"):
        SmallPictures.from_bytes(small.to_bytes()[:-200])


def test_the_painted_picture_is_dark_where_low_and_outlined(sample: Sample) -> None:
    small = small_pictures(Analysis(sample, METHOD), 90)
    plain, outlined = small.shots[1], small.shots[2]
    ends = small.planes[plain.key].ends
    bare, drawn = (shot_pixels(small, shot, ends).astype(int) for shot in (plain, outlined))
    assert bare.shape == (60, 90, 3)
    assert bare[5, 5].sum() < bare[5, 80].sum() < bare[25, 50].sum()
    differ = (bare != drawn).any(axis=2)
    assert differ[19:31, 39:61].any()
    assert not differ[:15].any()


@pytest.mark.parametrize("shape", [(1, 1), (1, 4000), (4000, 1), (3, 5), (2, 900)])
def test_any_shape_has_a_picture(
    shape: tuple[int, int], make_sample: Callable[..., Sample]
) -> None:
    values = np.arange(shape[0] * shape[1], dtype=np.float32).reshape(shape)
    small = small_pictures(Analysis(make_sample(values), METHOD), 200)
    small = SmallPictures.from_bytes(small.to_bytes())
    for shot in small.shots:
        pixels = shot_pixels(small, shot, small.planes[shot.key].ends)
        assert max(pixels.shape[:2]) == 200
        assert as_png(pixels).startswith(b"\x89PNG")


def test_a_flat_plane_and_one_without_values() -> None:
    flat = SmallPlane.of(np.full((2, 2), 7.0), (6.5, 7.5))
    np.testing.assert_allclose(flat.values, 7.0, atol=0.01)
    assert np.isnan(SmallPlane.of(np.full((2, 2), np.nan), (0.0, 1.0)).values).all()


@pytest.mark.parametrize(("count", "most"), [(0, 5), (3, 5), (5, 5), (100, 7), (1000, 1)])
def test_chosen_ones_are_spread_evenly(count: int, most: int) -> None:
    chosen = chosen_evenly(count, most)
    assert len(chosen) == min(count, most)
    assert chosen == sorted(set(chosen))
    if count > most > 1:
        steps = np.diff(chosen)
        assert (chosen[0], chosen[-1]) == (0, count - 1)
        assert steps.max() - steps.min() <= 1


def test_a_report_evaluates_nothing_that_the_batch_did(
    write_tiff: Callable[..., Path], blobs: np.ndarray, monkeypatch: pytest.MonkeyPatch
) -> None:
    items = samples_for([write_tiff(f"{k}.tif", blobs + 5 * k) for k in range(5)])
    store = ResultStore()
    outcomes = run_batch(items, METHOD, store=store, pictures=3)
    assert [bool(outcome.pictures) for outcome in outcomes] == [True, False, True, False, True]
    read: list[str] = []
    monkeypatch.setattr(AnalysisCache, "sample", lambda *asked: read.append(asked[-1]))
    contents = Contents(outcomes, METHOD)
    pictures = with_pictures(contents, Measurer(), most=3).pictures
    assert list(pictures) == ["0", "2", "4"]
    assert not read
    # The same again: they are known with the results.
    again = run_batch(items, METHOD, store=store, pictures=3)
    assert with_pictures(Contents(again, METHOD), Measurer(), most=3).pictures == pictures


def test_what_was_measured_without_pictures_is_read_for_them(
    write_tiff: Callable[..., Path], blobs: np.ndarray
) -> None:
    items = samples_for([write_tiff(f"{k}.tif", blobs + 5 * k) for k in range(3)])
    plain = run_batch(items, METHOD)
    kept = run_batch(items, METHOD, pictures=10)
    found = with_pictures(Contents(plain, METHOD), Measurer()).pictures
    assert found == with_pictures(Contents(kept, METHOD), Measurer()).pictures
    assert len(found) == 3
