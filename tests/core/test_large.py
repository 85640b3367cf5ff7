"""What large images need: pieces, sketches, lazy regions, caches; the results stay the same."""

from __future__ import annotations

import threading
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from rilievo.core.files import read_sample
from rilievo.core.files import reader as reading
from rilievo.core.files.channel_preparation import Declared, Derived, Reading, Term
from rilievo.core.files.reader_helpers import LUMA_WEIGHTS, luma
from rilievo.core.files.sample_parts import Part, parts_checksum
from rilievo.core.image.histogram import heights_between, histogram_frame, histogram_of
from rilievo.core.image.image import Plane, Sample, plane_from_native
from rilievo.core.image.pyramid import Pyramid, halved
from rilievo.core.measure.level_statistics import level_values
from rilievo.core.method.method import Method, step_use
from rilievo.core.pipeline import evaluator as evaluation
from rilievo.core.pipeline.evaluator import Evaluator
from rilievo.core.pipeline.sample_summary import gather, quick_ends
from rilievo.core.tiled_map import WORTH_THREADS, in_pieces
from rilievo.core.view.palettes import ViewStyle

RNG = np.random.default_rng(21)
WIDE = RNG.integers(0, 5000, (1100, 1300)).astype(np.uint16)


def test_pieces_come_back_in_order_whoever_worked_on_them() -> None:
    for values in (10, WORTH_THREADS):
        assert in_pieces(lambda k: k * k, range(50), values=values) == [k * k for k in range(50)]


def test_an_error_in_a_piece_reaches_the_caller() -> None:
    def work(piece: int) -> int:
        if piece == 3:
            raise ValueError("three")
        return piece

    with pytest.raises(ValueError, match="three"):
        in_pieces(work, range(9), values=WORTH_THREADS)


def test_many_callers_share_the_pieces() -> None:
    found: list[list[int]] = [[] for _ in range(6)]

    def call(k: int) -> None:
        found[k] = in_pieces(lambda piece: piece + k, range(200), values=WORTH_THREADS)

    threads = [threading.Thread(target=call, args=(k,)) for k in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert found == [[piece + k for piece in range(200)] for k in range(6)]


@pytest.mark.parametrize(
    "pixels",
    [
        WIDE,
        WIDE.astype(np.int32) - 70_000,
        (WIDE % 251).astype(np.uint8),
        np.where(RNG.random(WIDE.shape) < 0.01, np.nan, WIDE).astype(np.float32),
    ],
    ids=["16-bit", "signed", "8-bit", "float with gaps"],
)
def test_a_histogram_counted_in_pieces_is_the_histogram(pixels: np.ndarray) -> None:
    found = histogram_of(plane_from_native(pixels))
    finite = pixels[np.isfinite(pixels)].astype(np.float64)
    assert found.undefined == pixels.size - finite.size
    if found.levels:
        levels, counts = np.unique(finite, return_counts=True)
        held = found.counts > 0
        np.testing.assert_array_equal(found.values[held], levels)
        np.testing.assert_array_equal(found.counts[held], counts)
    else:
        assert found.total == finite.size
        middle = float(np.median(finite))
        assert found.share_at_or_below(middle) == pytest.approx((finite <= middle).mean(), abs=1e-3)


@pytest.mark.parametrize("dtype", [np.uint16, np.float32, np.int32])
def test_halving_in_pieces_is_the_mean_of_four(dtype: type) -> None:
    pixels = WIDE[:1099, :1299].astype(dtype)
    blocks = pixels[:1098, :1298].reshape(549, 2, 649, 2).astype(np.float64)
    np.testing.assert_allclose(halved(pixels), blocks.mean(axis=(1, 3)), rtol=1e-6)


def test_infinite_pixels_are_left_out_of_coarser_levels() -> None:
    pixels = np.array([[1.0, np.inf, np.nan, np.nan], [3.0, 5.0, np.nan, np.nan]])
    np.testing.assert_array_equal(halved(pixels), [[3.0, np.nan]])


def test_a_sketch_has_the_levels_and_the_scale_of_the_pyramid() -> None:
    exact, sketch = Pyramid(WIDE), Pyramid.sketch(WIDE, 256)
    assert sketch.levels[0] is WIDE
    for k in range(1, len(sketch.levels)):
        shapes = np.array([sketch.levels[k].shape, exact.levels[k].shape])
        assert np.abs(shapes[0] - shapes[1]).max() <= 1
        assert sketch.levels[k].mean() == pytest.approx(WIDE.mean(), rel=0.03)
    # The sketch takes no memory of its own.
    assert all(np.shares_memory(level, WIDE) for level in sketch.levels)


@pytest.fixture
def wide(make_sample: Callable[..., Sample]) -> Sample:
    return make_sample(WIDE, name="wide")


def test_a_large_plane_is_sketched_until_it_is_known(
    wide: Sample, monkeypatch: pytest.MonkeyPatch
) -> None:
    evaluator = Evaluator()
    monkeypatch.setattr(evaluation, "SKETCH_FROM", 1_000_000)
    assert evaluator.is_sketch(wide, "ch1", None)
    evaluator.quick_pyramid(wide, "ch1", None)
    assert evaluator.is_sketch(wide, "ch1", None)
    exact = evaluator.pyramid(wide, "ch1", None)
    assert not evaluator.is_sketch(wide, "ch1", None)
    assert evaluator.quick_pyramid(wide, "ch1", None) is exact
    # What a step has changed is not in the file: it is sketched by the step at a coarse level.
    corrected = Method(steps=(step_use("b", "background.level", level=10.0),))
    assert evaluator.is_sketch(wide, "ch1", corrected)
    sketch = evaluator.quick_pyramid(wide, "ch1", corrected)
    signal = evaluator.pyramid(wide, "ch1", corrected)
    assert not evaluator.is_sketch(wide, "ch1", corrected)
    assert [level.shape for level in sketch.levels] == [level.shape for level in signal.levels]
    # The finest levels of a sketch are not known, so that nobody may print their numbers.
    finest = sketch.finest
    assert finest > 0
    np.testing.assert_allclose(sketch.levels[finest], signal.levels[finest], atol=0.01)


def test_a_signal_that_no_step_changes_needs_no_copy(wide: Sample) -> None:
    evaluator = Evaluator()
    plain = Method()
    native = evaluator.histogram(wide, "ch1", None)
    assert evaluator.histogram(wide, "ch1", plain) is native
    assert evaluator.pyramid(wide, "ch1", plain) is evaluator.pyramid(wide, "ch1", None)
    assert evaluator.peek_signal(wide, "ch1", plain) is None


def test_regions_can_wait_and_first_ends_are_near(wide: Sample) -> None:
    evaluator = Evaluator()
    first = gather(evaluator, wide, ["ch1"], Method(), with_regions=False)
    assert not first.regions and first.error is None
    then = gather(evaluator, wide, ["ch1"], Method())
    assert then.regions
    assert then.native["ch1"] is first.native["ch1"]
    for end, exact in zip(
        quick_ends(wide)["ch1", "native"], first.ends["ch1", "native"], strict=True
    ):
        assert end == pytest.approx(exact, abs=60)


def test_checks_and_derived_channels_are_computed_once(
    make_sample: Callable[..., Sample], monkeypatch: pytest.MonkeyPatch
) -> None:
    sample = make_sample(WIDE[:64, :64], WIDE[64:128, :64])
    mix = Derived(name="m", terms=(Term(channel="ch1"), Term(channel="ch2", weight=-1)))
    method = Method(reading=Reading(derived=(mix,)))
    evaluator = Evaluator()
    made = evaluator.prepared(sample, method)
    assert evaluator.prepared(sample, method).channels["m"] is made.channels["m"]
    assert evaluator.prepared(made, method) is made
    told = evaluator.prepared(sample, method, Declared(saturation=4000))
    assert told.content != made.content
    found, traits = evaluator.checks(made)
    monkeypatch.setattr(evaluation, "check_sample", lambda *_: pytest.fail("looked again"))
    assert evaluator.checks(made) == (found, traits)
    # Whoever adds to the list does not add to the next one's.
    evaluator.checks(made)[0].clear()
    assert evaluator.checks(made)[0] == found


def test_checks_use_the_histograms_that_are_there(
    wide: Sample, monkeypatch: pytest.MonkeyPatch
) -> None:
    evaluator = Evaluator()
    expected = evaluator.checks(wide)[0]
    fresh = Evaluator()
    fresh.histogram(wide, "ch1", None)
    monkeypatch.setattr(evaluation, "histogram_of", lambda _: pytest.fail("counted again"))
    assert fresh.checks(wide)[0] == expected
    assert fresh.proposed_levels(wide) == Declared()


def test_a_checksum_is_taken_once_while_the_file_stays(
    write_tiff: Callable[..., Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    parts = (Part(write_tiff("a.tif", WIDE[:20, :20])),)
    evaluator = Evaluator()
    sample = evaluator.sample(parts, "a")
    first = evaluator.checksum(parts, sample)
    told = evaluator.prepared(sample, Method(), Declared(empty=1.0))
    with monkeypatch.context() as patch:
        patch.setattr(evaluation, "parts_checksum", lambda _: pytest.fail("took another"))
        assert evaluator.checksum(parts, told) == first
    write_tiff("a.tif", WIDE[:21, :20])
    assert evaluator.checksum(parts, evaluator.sample(parts, "a")) != first


def test_brightness_in_pieces_is_brightness() -> None:
    colours = [RNG.integers(0, 65536, (1200, 1000)).astype(np.uint16) for _ in range(3)]
    wanted = sum(w * c.astype(np.float64) for w, c in zip(LUMA_WEIGHTS, colours, strict=True))
    np.testing.assert_array_equal(luma(*colours), np.asarray(wanted).astype(np.float32))


def test_the_first_reading_takes_no_checksum(
    write_tiff: Callable[..., Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    path = write_tiff("a.tif", WIDE[:20, :20])
    whole = read_sample(path)
    with monkeypatch.context() as patch:
        patch.setattr(reading, "file_checksum", lambda _: pytest.fail("took a checksum"))
        quick = Evaluator().sample((Part(path),), "a")
    assert (quick.checksum, whole.checksum) == ("", parts_checksum((Part(path),)))
    assert quick.identity
    # A file that changes under the same name is another one.
    write_tiff("a.tif", WIDE[:21, :20])
    assert Evaluator().sample((Part(path),), "a").identity != quick.identity


def test_a_part_of_a_plane_is_counted_by_level() -> None:
    values = level_values(plane_from_native(WIDE, significant_bits=12, empty=10.0))
    assert values is not None
    assert values.count_of("saturated")[0] == np.count_nonzero(WIDE >= 4095)
    assert values.count_of("empty")[0] == np.count_nonzero(WIDE <= 10)
    assert values.plane_range == (WIDE.min(), WIDE.max())
    assert level_values(Plane(WIDE.astype(np.float64))) is None
    assert level_values(plane_from_native(WIDE.astype(np.int64) * 1_000_003)) is None


# -- display bins and tables


@pytest.mark.parametrize("kind", ["counts", "share", "cumulative"])
@pytest.mark.parametrize(("low", "high"), [(0.0, 5000.0), (1000.0, 1040.0)])
def test_display_bins_hold_the_pixels_between_their_edges(
    kind: str, low: float, high: float
) -> None:
    histogram = histogram_of(plane_from_native(WIDE))
    edges, heights = heights_between(histogram, kind, low, high, 400)  # type: ignore[arg-type]
    assert len(edges) == len(heights) + 1 <= 401
    if high - low < 400:
        # Zoomed in, each bin is a level.
        np.testing.assert_allclose(np.diff(edges), 1)
        expected = np.array([np.count_nonzero(level == WIDE) for level in edges[:-1] + 0.5])
        upto = np.array([np.count_nonzero(level >= WIDE) for level in edges[:-1] + 0.5])
        wanted = {"counts": expected, "share": expected / WIDE.size, "cumulative": upto / WIDE.size}
        np.testing.assert_allclose(heights, wanted[kind], atol=1e-9)
    elif kind == "cumulative":
        assert heights[-1] == pytest.approx(1, abs=1e-3)
        assert (np.diff(heights) >= 0).all()
    else:
        assert heights.sum() == pytest.approx(WIDE.size if kind == "counts" else 1, rel=1e-3)


def test_a_table_of_histograms_leaves_empty_bins_out() -> None:
    histogram = histogram_of(plane_from_native(np.array([[3, 3, 9]], np.uint8)))
    frame = histogram_frame({"one": histogram})
    assert frame["level"].tolist() == [3, 9]
    assert frame["count"].tolist() == [2, 1]
    assert frame["cumulative"].tolist() == pytest.approx([2 / 3, 1])
    assert histogram_frame({}).empty


def test_every_new_field_of_a_style_is_checked() -> None:
    for wrong in ({"bands": 1}, {"relief": -1}, {"light": 361}, {"smooth": 9}, {"stretch": "odd"}):
        with pytest.raises(ValueError, match=next(iter(wrong))):
            ViewStyle(**wrong)  # type: ignore[arg-type]
