"""Steps within a method: what is computed again, frames, other channels, moved pixels, marks."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tifffile
from astropy.io import fits

from rilievo.core.cache import BudgetCache
from rilievo.core.errors import Cancelled, MethodError, StepError
from rilievo.core.files import read_sample
from rilievo.core.image.calibration_frames import FrameMismatch, FramesMissing
from rilievo.core.image.image import Calibration, Plane, Sample, plane_from_native, unplaced
from rilievo.core.image.pyramid import halved
from rilievo.core.method import step_edits
from rilievo.core.method.method import Method, step_use
from rilievo.core.method.picks import Pick
from rilievo.core.pipeline.analysis import Analysis, measure
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.progress import Control, checkpoint, stoppable
from rilievo.core.signal.steps import STEPS
from tests.outlines import outline, reject

FIVE = Method(
    steps=(
        step_use("hot", "repair.outliers"),
        step_use("mesh", "background.mesh", tile=16),
        step_use("smooth", "smooth.gaussian", sigma=1),
        step_use("times", "arithmetic.number", number=2),
        step_use("limits", "arithmetic.limits", lowest=-50),
    )
)


@pytest.fixture
def counted(monkeypatch: pytest.MonkeyPatch) -> Counter[str]:
    """How often each step is evaluated."""
    calls: Counter[str] = Counter()

    def counting(key: str, function: Callable[..., Any]) -> Callable[..., Any]:
        def call(*args: Any) -> Any:
            calls[key] += 1
            return function(*args)

        return call

    for key in STEPS:
        entry = STEPS[key]
        estimate = entry.estimate and counting(key, entry.estimate)
        monkeypatch.setitem(
            STEPS._entries, key, replace(entry, apply=counting(key, entry.apply), estimate=estimate)
        )
    return calls


def field(seed: int = 0, shape: tuple[int, int] = (96, 128)) -> np.ndarray:
    rng = np.random.default_rng(seed)
    y, x = np.indices(shape)
    values = 300 + 0.5 * x + rng.normal(0, 3, shape)
    for cy, cx in ((20, 30), (60, 90), (70, 20)):
        values = values + 400 * np.exp(-((y - cy) ** 2 + (x - cx) ** 2) / 30)
    return values.round().astype(np.uint16)


def made(*planes: np.ndarray, names: tuple[str, ...] = ("red", "blue")) -> Sample:
    channels = {name: plane_from_native(p) for name, p in zip(names, planes, strict=False)}
    return Sample("s", channels)


def test_a_late_change_computes_only_what_depends_on_it(counted: Counter[str]) -> None:
    sample, cache = made(field()), AnalysisCache()
    Analysis(sample, FIVE, cache).signal("red")
    assert counted == dict.fromkeys(
        ["repair.outliers", "background.mesh", "smooth.gaussian", "arithmetic.number",
         "arithmetic.limits"], 1,
    )  # fmt: skip
    later = step_edits.with_parameters(FIVE, "times", number=3.0)
    Analysis(sample, later, cache).signal("red")
    assert counted["arithmetic.number"] == counted["arithmetic.limits"] == 2
    assert counted["background.mesh"] == counted["repair.outliers"] == 1
    # Altering a background by hand does not estimate it anew, nor does looking at it.
    Analysis(sample, step_edits.with_parameters(FIVE, "mesh", scale=0.5), cache).signal("red")
    Analysis(sample, step_edits.truncate_at(FIVE, "mesh", background=True), cache).signal("red")
    assert counted["background.mesh"] == 1
    Analysis(sample, FIVE, cache).signal("red")
    assert sum(counted.values()) == 5 + 2 + 3


def test_the_result_is_that_of_the_steps_one_after_the_other() -> None:
    sample = made(field())
    plane = sample.channels["red"]
    for use in FIVE.steps:
        from rilievo.core.signal.steps import StepContext  # noqa: PLC0415

        plane = STEPS[use.step].apply(plane, use.parameters, StepContext("s", "red"))
    np.testing.assert_array_equal(Analysis(sample, FIVE).signal("red").pixels, plane.pixels)


def test_what_is_off_or_for_another_channel_is_not_applied() -> None:
    sample, cache = made(field(), field(1)), AnalysisCache()
    method = Method(steps=(step_use("n", "arithmetic.number", number=3),))
    only = step_edits.with_use(method, "n", channels=("blue",))
    np.testing.assert_array_equal(
        Analysis(sample, only, cache).signal("red").pixels, sample.channels["red"].pixels
    )
    off = step_edits.with_use(method, "n", on=False)
    np.testing.assert_array_equal(
        Analysis(sample, off, cache).signal("blue").pixels, sample.channels["blue"].pixels
    )
    assert Analysis(sample, only, cache).signal("blue").pixels[3, 4] == 3.0 * field(1)[3, 4]


def test_another_channel_is_read_as_it_stands_before_the_step() -> None:
    sample, cache = made(field(), field(1)), AnalysisCache()
    method = Method(
        steps=(
            step_use("a", "arithmetic.number", number=10).model_copy(
                update={"channels": ("blue",)}
            ),
            step_use("b", "arithmetic.image", other_channel="blue").model_copy(
                update={"channels": ("red",)}
            ),
            step_use("c", "arithmetic.number", number=0).model_copy(update={"channels": ("blue",)}),
        )
    )
    expected = field().astype(np.float32) - 10 * field(1).astype(np.float32)
    np.testing.assert_array_equal(Analysis(sample, method, cache).signal("red").pixels, expected)
    changed = step_edits.with_parameters(method, "a", number=2.0)
    expected = field().astype(np.float32) - 2 * field(1).astype(np.float32)
    np.testing.assert_array_equal(Analysis(sample, changed, cache).signal("red").pixels, expected)
    with pytest.raises(StepError, match="green"):
        other = step_edits.with_parameters(method, "b", other_channel="green")
        Analysis(sample, other, cache).signal("red")


def test_a_formula_over_channels() -> None:
    sample = made(field(), field(1))
    method = Method(
        steps=(step_use("f", "arithmetic.formula", formula="this / (this + blue) - mean(blue)"),)
    )
    red, blue = field().astype(np.float64), field(1).astype(np.float64)
    found = Analysis(sample, method).signal("red").pixels
    np.testing.assert_allclose(found, red / (red + blue) - blue.mean(), rtol=1e-5)
    with pytest.raises(MethodError, match="character 7"):
        step_edits.with_parameters(method, "f", formula="this +")


@pytest.fixture
def frames(tmp_path: Path) -> Callable[..., list[dict[str, str]]]:
    def write(*planes: np.ndarray, name: str = "f") -> list[dict[str, str]]:
        files = []
        for k, plane in enumerate(planes):
            path = tmp_path / f"{name}{k}.tif"
            tifffile.imwrite(path, plane)
            files.append({"file": str(path)})
        return files

    return write


def test_dark_and_flat_give_back_what_was_put_in(
    frames: Callable[..., list[dict[str, str]]],
) -> None:
    rng = np.random.default_rng(3)
    y, x = np.indices((60, 80))
    truth = 500 + 3.0 * x
    uneven = 1.2 - 0.00012 * ((x - 40) ** 2 + (y - 30) ** 2)
    uneven = uneven / uneven.mean()
    dark = 100 + rng.integers(0, 9, truth.shape)
    files = {
        "dark": frames(*[(dark + k).astype(np.uint16) for k in (-1, 0, 1)], name="d"),
        "flat": frames((dark + 20000 * uneven).round().astype(np.uint16), name="f"),
    }
    picture = (truth * uneven + dark).astype(np.float32)
    method = Method(
        steps=(
            step_use("d", "frames.dark", dark={"files": files["dark"]}),
            step_use("f", "frames.flat", flat={"files": files["flat"]},
                     flat_dark={"files": files["dark"], "combine": "mean"}),
        )
    )  # fmt: skip
    sample = Sample("s", {"gray": Plane(picture)})
    np.testing.assert_allclose(Analysis(sample, method).signal("gray").pixels, truth, rtol=2e-4)


def test_frames_that_do_not_fit_are_named(
    frames: Callable[..., list[dict[str, str]]],
) -> None:
    sample, cache = made(field()), AnalysisCache()

    def dark(*planes: np.ndarray, **more: Any) -> Method:
        files = frames(*planes) if planes else []
        return Method(steps=(step_use("d", "frames.dark", dark={"files": files}, **more),))

    with pytest.raises(FramesMissing, match="choose one or more files"):
        Analysis(sample, dark(), cache).signal("red")
    with pytest.raises(FrameMismatch, match=r"f0\.tif” is 7×6 pixels.*“s” is 128×96"):
        Analysis(sample, dark(np.zeros((6, 7), np.uint16)), cache).signal("red")
    with pytest.raises(FrameMismatch, match=r"0 to 255.*0 to 65535"):
        Analysis(sample, dark(np.zeros((96, 128), np.uint8)), cache).signal("red")
    with pytest.raises(StepError, match="states no exposure"):
        Analysis(sample, dark(field(2), factor="exposure"), cache).signal("red")
    gone = dark(field(3))
    Analysis(sample, gone, cache).signal("red")
    Path(gone.steps[0].parameters.model_dump()["dark"]["files"][0]["file"]).unlink()
    with pytest.raises(Exception, match=r"f0\.tif"):
        Analysis(sample, gone, cache).signal("red")


def test_a_frame_that_changes_is_read_again(
    frames: Callable[..., list[dict[str, str]]],
) -> None:
    sample, cache = made(field()), AnalysisCache()
    files = frames(np.full((96, 128), 5, np.uint16))
    method = Method(steps=(step_use("d", "frames.dark", dark={"files": files}),))
    assert Analysis(sample, method, cache).signal("red").pixels[0, 0] == field()[0, 0] - 5.0
    frames(np.full((96, 128), 7, np.uint16), np.zeros((2, 2)))
    assert Analysis(sample, method, cache).signal("red").pixels[0, 0] == field()[0, 0] - 7.0


def test_exposures_scale_a_dark(tmp_path: Path) -> None:
    for name, seconds, level in (("dark", 30.0, 60), ("night", 90.0, 1000)):
        card = fits.Header({"EXPTIME": seconds})
        fits.PrimaryHDU(np.full((8, 9), level, np.int16), card).writeto(tmp_path / f"{name}.fits")
    files = [{"file": str(tmp_path / "dark.fits")}]
    dark = step_use("d", "frames.dark", dark={"files": files}, factor="exposure")
    sample = read_sample(tmp_path / "night.fits")
    cache = AnalysisCache()
    name = sample.channel_names[0]
    assert Analysis(sample, Method(steps=(dark,)), cache).signal(name).pixels[2, 3] == 1000 - 3 * 60
    assert Analysis(sample, Method(steps=(dark,)), cache).step_numbers(name, "d")["factor"] == 3


def test_a_sample_is_matched_to_a_reference_after_the_same_steps(
    frames: Callable[..., list[dict[str, str]]],
) -> None:
    reference = field()
    method = Method(
        steps=(
            step_use("b", "background.level", level=100),
            step_use("m", "arithmetic.match", reference=frames(reference)[0]),
        )
    )
    other = (reference.astype(np.float64) * 0.5 + 40).astype(np.float32)
    sample = Sample("other", {"gray": Plane(other)})
    cache = AnalysisCache()
    found = Analysis(sample, method, cache).signal("gray").pixels
    np.testing.assert_allclose(found, reference - 100.0, rtol=1e-4, atol=0.01)
    numbers = Analysis(sample, method, cache).step_numbers("gray", "m")
    assert numbers["factor"] == pytest.approx(2, rel=1e-5)
    assert numbers["offset"] == pytest.approx(20, abs=0.01)


def test_hot_and_dead_pixels_are_found_and_edges_of_objects_are_not() -> None:
    pixels = field().astype(np.float32)
    rng = np.random.default_rng(9)
    positions = rng.choice(pixels.size, 40, replace=False)
    spoilt = pixels.ravel().copy()
    spoilt[positions[:25]] += 900
    spoilt[positions[25:]] = 0
    method = Method(steps=(step_use("h", "repair.outliers", sigmas=9),))
    sample, cache = Sample("s", {"gray": Plane(spoilt.reshape(pixels.shape))}), AnalysisCache()
    found = Analysis(sample, method, cache).signal("gray").pixels
    changed = np.flatnonzero(found.ravel() != spoilt)
    # One that lies in the light of an object may be missed, one of its peak be taken for one.
    assert len(set(positions) & set(changed.tolist())) >= 38
    assert changed.size <= 42
    assert np.median(np.abs(found - pixels).ravel()[positions]) < 12
    assert Analysis(sample, method, cache).step_numbers("gray", "h")["replaced"] == changed.size


def test_regions_native_values_and_calibration_follow_what_moves() -> None:
    pixels = np.zeros((40, 60), np.uint16)
    pixels[10:16, 20:30] = 1000
    pixels[12, 22] = 4095
    plane = replace(plane_from_native(pixels, Calibration(0.5, "µm")), saturation=4000.0)
    sample = Sample("s", {"gray": plane})
    plain = Method(outlines=(outline(100),))
    moved = plain.changed(
        steps=(
            step_use("c", "geometry.crop", rectangle={"x": 10, "y": 4, "width": 40, "height": 30}),
            step_use("t", "geometry.turn", quarters=1),
            step_use("b", "geometry.bin", size=2),
            step_use("l", "background.level", level=10),
        )
    )
    whole, parts = measure(sample, plain).table.iloc[0], measure(sample, moved).table.iloc[0]
    assert parts["area"] == whole["area"] / 4
    assert parts["area_unit"] == whole["area_unit"]
    assert parts["native_mean"] == pytest.approx(whole["native_mean"])
    assert parts["mean"] == pytest.approx(whole["mean"] - 10)
    assert parts["background"] == pytest.approx(10)
    assert whole["saturated_count"] == parts["saturated_count"] == 1
    signal = Analysis(sample, moved).signal("gray")
    assert signal.calibration.pixel_size == 1.0
    y, x = np.argwhere(signal.pixels > 1000)[0]
    from_x, from_y = unplaced(signal.placement, float(x), float(y))
    assert abs(from_x - 22) <= 0.5
    assert abs(from_y - 12) <= 0.5


def test_picks_and_rejected_regions_are_places_of_the_file() -> None:
    sample = made(field())
    crop = {"rectangle": {"x": 25, "y": 10, "width": 90, "height": 70}}
    plain = Method(
        outlines=(outline(500),),
        picks=(Pick(number=1, x=30, y=20, size=3), Pick(number=2, x=2, y=2)),
    )
    plain = plain.changed(exceptions={"s": {"edits": reject((30, 20))}})
    moved = plain.changed(steps=(step_use("c", "geometry.crop", **crop),))
    cache = AnalysisCache()
    before, after = (Analysis(sample, m, cache).picks() for m in (plain, moved))
    assert [row["pick"] for row in before] == [1, 2]
    assert [row["pick"] for row in after] == [1]
    assert after[0]["mean"] == before[0]["mean"]
    assert measure(sample, plain).ids.size == 2
    assert Analysis(sample, moved, cache).regions().count == 1


def test_a_sample_is_registered_onto_another(
    frames: Callable[..., list[dict[str, str]]],
) -> None:
    big = field(shape=(140, 170))
    reference, moved = big[20:116, 20:148], big[15:111, 32:160]
    step = step_use("r", "geometry.register", reference=frames(reference)[0])
    sample = made(moved)
    found = Analysis(sample, Method(steps=(step,))).signal("red")
    inside = np.isfinite(found.pixels)
    np.testing.assert_array_equal(found.pixels[inside], reference[inside])
    # 12 columns and 5 rows were uncovered.
    assert np.count_nonzero(~inside) == 96 * 12 + 128 * 5 - 60


def test_what_changes_the_size_applies_to_all_channels() -> None:
    method = Method(steps=(step_use("b", "geometry.bin"),))
    with pytest.raises(MethodError, match="all channels"):
        step_edits.with_use(method, "b", channels=("red",))


def test_undefined_results_are_counted_and_left_out() -> None:
    pixels = np.full((20, 20), 100.0, np.float32)
    pixels[4, 5:8] = [-3, 0, 1]
    sample = Sample("s", {"gray": Plane(pixels)})
    method = Method(
        steps=(step_use("l", "curve.log"), step_use("d", "arithmetic.number", number=3)),
        outlines=(outline(-99, clean=()),),
    )
    cache = AnalysisCache()
    assert Analysis(sample, method, cache).step_numbers("gray", "l")["undefined"] == 2
    assert Analysis(sample, method, cache).step_numbers("gray", "d")["undefined"] == 0
    table = Analysis(sample, method, cache).table().table
    assert table["pixel_count"].tolist() == [398]
    assert table["max"].tolist() == pytest.approx([6.0], abs=1e-5)
    assert table["marks"].tolist() == ["not linear; touches the edge; beside undefined"]


def test_pixels_that_the_file_leaves_undefined_are_not_laid_on_a_step() -> None:
    pixels = np.full((9, 9), 4.0, np.float32)
    pixels[2, 3], pixels[5, 5], pixels[7, 7] = np.nan, np.inf, -1.0
    sample = Sample("s", {"gray": Plane(pixels)})
    method = Method(steps=(step_use("p", "curve.power"), step_use("n", "arithmetic.number")))
    cache = AnalysisCache()
    assert Analysis(sample, method, cache).step_numbers("gray", "p")["undefined"] == 1
    assert Analysis(sample, method, cache).step_numbers("gray", "n")["undefined"] == 0
    assert np.count_nonzero(np.isnan(Analysis(sample, method, cache).signal("gray").pixels)) == 3


def test_the_error_of_a_patch_is_carried_into_that_of_the_sum() -> None:
    rng = np.random.default_rng(1)
    pixels = rng.normal(100, 5, (60, 60)).astype(np.float32)
    pixels[30:40, 30:50] += 500
    patch = {"x": 0, "y": 0, "width": 20, "height": 20}
    steps = (
        step_use("p", "background.patch", patches=[patch]),
        step_use("n", "arithmetic.number", number=-3),
        step_use("n2", "arithmetic.number", operation="add", number=7),
    )
    sample = Sample("s", {"gray": Plane(pixels)})
    method = Method(steps=steps, outlines=(outline(-500, keep="dark"),))
    method = method.changed(measure={"quantities": ["pixel_count", "sum", "sum_error"]})
    row = measure(sample, method).table.iloc[0]
    error = pixels[:20, :20].astype(np.float64).std(ddof=1) / 20
    assert row["pixel_count"] == 200
    assert row["sum_error"] == pytest.approx(200 * 3 * error, rel=1e-5)
    curved = method.changed(steps=(*steps[:1], step_use("c", "curve.power", exponent=1)))
    curved = curved.changed(outlines=(outline(300),))
    assert np.isnan(measure(sample, curved).table.iloc[0]["sum_error"])


def test_a_coarse_level_of_the_whole_method_is_near_the_exact_one() -> None:
    y, x = np.mgrid[-1:1:512j, -1:1:640j]
    values = 400 + 60 * x + 40 * y**2
    for cy, cx in ((-0.4, -0.4), (0.3, 0.5)):
        values += 500 * np.exp(-((y - cy) ** 2 + (x - cx) ** 2) / 0.01)
    sample, cache = made(values.round().astype(np.uint16)), AnalysisCache()
    crop = {"x": 32, "y": 0, "width": 576, "height": 480}
    method = Method(
        steps=(
            step_use("c", "geometry.crop", rectangle=crop),
            step_use("o", "background.opening", radius=200, smooth_before=2),
            step_use("g", "smooth.gaussian", sigma=4),
            step_use("n", "arithmetic.number", number=2),
        )
    )  # fmt: skip
    exact = halved(halved(Analysis(sample, method, cache).signal("red").pixels))
    coarse = Analysis(sample, method, cache).chain(2).after("red", 4).plane
    assert coarse.shape == exact.shape
    assert np.abs(coarse.pixels - exact).max() < 0.03 * np.ptp(exact)


def test_work_is_stopped_between_its_parts() -> None:
    sample, cache = made(field()), AnalysisCache()
    control = Control()
    control.cancel()
    with stoppable(control), pytest.raises(Cancelled):
        Analysis(sample, FIVE, cache).signal("red")
    checkpoint()
    # Nothing half-done is left behind.
    assert Analysis(sample, FIVE, cache).signal("red").shape == (96, 128)


def test_the_memory_budget_can_be_set_while_working() -> None:
    cache = BudgetCache(1000)
    for key in range(5):
        cache.get(key, lambda: "x", lambda _: 200)
    assert cache.peek(0) == "x"
    cache.budget = 450
    assert [cache.peek(key) for key in range(5)] == [None, None, None, "x", "x"]
    cache = AnalysisCache()
    cache.budget = 12345
    assert cache.budget == 12345
