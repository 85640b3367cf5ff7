"""What the table, prints, plots and cards of Measure are made of."""

from __future__ import annotations

import math

import numpy as np
import pytest

from rilievo.core.errors import StepError
from rilievo.core.image.image import Plane, Sample
from rilievo.core.measure.quantity_sets import (
    READY_SETS,
    found_quantities,
    sets_from_json,
    sets_to_json,
)
from rilievo.core.measure.stars.close_look import star_look, steady_radius
from rilievo.core.measure.stars.star_settings import StarUse
from rilievo.core.method.class_definition import Outline, hand_threshold
from rilievo.core.method.method import Measure, Method, step_use
from rilievo.core.method.picks import Pick
from rilievo.core.pipeline.calibration_points import number_in, points_from_picks
from rilievo.core.pipeline.checks_measured import check_measured, check_measured_batch
from rilievo.core.pipeline.combined_regions import joint_of
from rilievo.core.pipeline.evaluator import Evaluator
from rilievo.core.pipeline.region_gallery import (
    common_side,
    print_grey,
    print_of,
    print_rows,
    rim_of,
)
from rilievo.core.regions.region_set import CLASS_STRIDE
from rilievo.core.report.page import extremes
from rilievo.core.table.number_reference import find_reference, reference_of
from rilievo.core.table.plot_points import MOST_POINTS, bar_points, column_points
from rilievo.core.table.row_query import ANY_MARK, RowWish, arranged
from rilievo.core.table.rows import Rows
from rilievo.core.table.star_field import star_summary, whiskers
from rilievo.core.table.table import RegionTable, sample_frame
from tests.stars import moffat_star, noisy


def spots() -> tuple[Sample, Method]:
    """Three spots on a dark ground, two channels."""
    values = np.full((40, 60), 10, np.float32)
    values[5:10, 5:10] = 100
    values[5:10, 40:48] = 200
    values[30:33, 20:40] = np.arange(20) + 300
    sample = Sample("spots", {"a": Plane(values), "b": Plane(values / 2)})
    method = Method(
        outlines=(Outline(threshold=hand_threshold(50), clean=()),),
        measure=Measure(quantities=("mean", "area", "sd")),
    )
    return sample, method


# -- rows as they are wanted


def rows_of(count: int = 50) -> Rows:
    rng = np.random.default_rng(1)
    tables = [
        RegionTable(
            f"s{k}", "", f"g{k % 2}", ("cell",), np.arange(1, count + 1),
            {"a": {"mean": rng.normal(0, 1, count), "area": np.arange(count) + 1.0}},
            flags={"a": (np.arange(count) % 10 == k).astype(np.uint8)},
        )
        for k in range(4)
    ]  # fmt: skip
    return Rows(tables)


def test_wishes_are_met_together() -> None:
    rows = rows_of()
    wish = RowWish(
        search="s", expression="area > 5", ranges=(("mean", -1, 1),), order=(("mean", True),)
    )
    shown = arranged(rows, wish)
    fits = (rows.columns["area"] > 5) & (np.abs(rows.columns["mean"]) <= 1)
    assert set(shown.rows.tolist()) == set(np.flatnonzero(fits).tolist())
    assert (np.diff(rows.columns["mean"][shown.rows]) <= 0).all()
    assert arranged(rows, RowWish(sample="s2")).rows.size == 50
    assert arranged(rows, RowWish(mark=ANY_MARK)).rows.size == 20
    assert arranged(rows, RowWish(mark="saturated inside")).rows.size == 20
    assert arranged(rows, RowWish(mark="few pixels")).rows.size == 0
    # What the present columns do not have is passed over.
    gone = RowWish(order=(("volume", False),), ranges=(("volume", 0, 1),))
    assert arranged(rows, gone).rows.size == rows.count


def test_groups_have_a_line_of_their_own() -> None:
    rows = rows_of()
    shown = arranged(rows, RowWish(group="group", order=(("area", False),)))
    assert shown.entries.size == rows.count + 2
    assert shown.entries[0] == -1
    assert shown.entries[101] == -2
    assert [total.name for total in shown.subtotals] == ["g0", "g1"]
    assert arranged(Rows([]), RowWish(group="group")).entries.size == 0


def test_what_is_typed_filters_or_is_sought() -> None:
    wish = RowWish(mark="few pixels").reading(" area > 5 ")
    assert (wish.expression, wish.search, wish.mark) == ("area > 5", "", "few pixels")
    assert wish.reading("field 3").search == "field 3"
    assert wish.reading("field 3").expression == ""


def test_lines_of_rows() -> None:
    rows = rows_of(10)
    shown = arranged(rows, RowWish(group="group", order=(("area", True),), expression="area > 3"))
    wanted = rows.rows_of({"s2": {2, 5, 9}, "nowhere": {1}})
    lines = shown.lines_of(wanted)
    found = [(rows.sample(k), int(rows.region[k])) for k in shown.entries[lines].tolist()]
    # Region 2 is too small to be shown; the larger one stands first.
    assert found == [("s2", 9), ("s2", 5)]
    assert arranged(rows, RowWish(expression="area > 99")).lines_of(wanted).size == 0


def test_a_row_for_each_print() -> None:
    sample, method = spots()
    rows = Rows([Evaluator().measure(s, method) for s in (sample, sample.renamed("two"))])
    shown = arranged(rows, RowWish()).rows
    found = print_rows(rows, shown, "mean", "b", falling=True)
    assert [(rows.sample(k), int(rows.region[k])) for k in found.tolist()] == [
        ("spots", 3), ("two", 3), ("spots", 2), ("two", 2), ("spots", 1), ("two", 1),
    ]  # fmt: skip
    assert {rows.channel(k) for k in found.tolist()} == {"b"}
    # A channel that was not measured leaves the first one of each region.
    assert print_rows(rows, shown, "mean", "nowhere").size == 6
    only = print_rows(rows, shown, "mean", "a", only={"two": {1}})
    assert [(rows.sample(k), int(rows.region[k])) for k in only.tolist()] == [("two", 1)]


def test_a_click_sorts_up_then_down_then_not() -> None:
    wish = RowWish()
    orders = []
    for _ in range(3):
        wish = wish.sorted_by("mean", also=False)
        orders.append(wish.order)
    assert orders == [(("mean", False),), (("mean", True),), ()]
    wish = RowWish().sorted_by("group", also=False).sorted_by("mean", also=True)
    assert wish.order == (("group", False), ("mean", False))
    assert wish.sorted_by("group", also=True).order == (("group", True), ("mean", False))
    assert wish.sorted_by("mean", also=True).sorted_by("mean", also=True).order == (
        ("group", False),
    )
    ranged = wish.with_range("mean", 0, 1)
    assert ranged.filters
    assert ranged.with_range("mean", 2, 3).ranges == (("mean", 2, 3),)
    assert not ranged.with_range("mean", None).filters


# -- plots


def test_points_of_columns() -> None:
    rows = rows_of()
    every = rows.all_rows()
    points = column_points(rows, every, "scatter", "area", "mean")
    np.testing.assert_array_equal(points.x, rows.columns["area"])
    np.testing.assert_array_equal(points.y, rows.columns["mean"])
    inside = points.within(10, 20, -1, 0)
    wanted = (
        (rows.columns["area"] >= 10) & (rows.columns["area"] <= 20)
        & (rows.columns["mean"] >= -1) & (rows.columns["mean"] <= 0)
    )  # fmt: skip
    np.testing.assert_array_equal(inside, np.flatnonzero(wanted))
    strip = column_points(rows, every, "strip", "area", "mean")
    assert (np.rint(strip.x) == rows.table_at).all()
    middles, counts, width = bar_points(rows, every, "area")
    assert counts.sum() == rows.count
    assert middles[0] - width / 2 == pytest.approx(1)
    across, up = points.of_group(1)
    second = np.array([rows.text("group", k) == "g1" for k in every])
    np.testing.assert_array_equal(across, rows.columns["area"][second])
    np.testing.assert_array_equal(up, rows.columns["mean"][second])


def test_only_an_even_choice_of_many_points_is_drawn() -> None:
    rows = rows_of(MOST_POINTS)
    points = column_points(rows, rows.all_rows(), "scatter", "area", "mean")
    assert points.rows.size == MOST_POINTS
    assert points.total == rows.count
    assert points.within(-1e9, 1e9, -1e9, 1e9).size == rows.count
    nothing = column_points(rows, np.zeros(0, np.int64), "scatter", "area", "mean")
    assert nothing.total == 0


# -- several regions together, prints


def test_joint_statistics_are_those_of_all_pixels() -> None:
    sample, method = spots()
    joint = joint_of(Evaluator(), [(sample, {1, 3})], method, "b")
    values = sample.channels["b"].pixels
    both = np.concatenate([values[5:10, 5:10].ravel(), values[30:33, 20:40].ravel()])
    assert joint is not None
    assert (joint.regions, joint.samples) == (2, 1)
    assert joint.numbers["mean"] == pytest.approx(both.mean())
    assert joint.numbers["sd"] == pytest.approx(both.std(ddof=1))
    assert joint.numbers["median"] == np.median(both)
    assert joint.histogram.total == both.size
    again = joint_of(Evaluator(), [(sample, {1}), (sample.renamed("two"), {3})], method, "b")
    assert again is not None
    assert again.numbers == joint.numbers
    assert again.samples == 2
    assert joint_of(Evaluator(), [(sample, {99, CLASS_STRIDE * 5})], method, "b") is None
    assert joint_of(Evaluator(), [], method, "b") is None
    assert joint_of(Evaluator(), [(sample, {1})], method, "nowhere") is None


def test_prints_show_the_region_in_the_middle() -> None:
    sample, method = spots()
    regions = Evaluator().regions(sample, method)
    side = common_side([regions])
    assert 8 <= side <= 40
    one = print_of(sample.channels["a"], regions, 1, 12)
    assert one.inside.sum() == 25
    assert (one.values[one.inside] == 100).all()
    rows, columns = np.nonzero(one.inside)
    assert abs(rows.mean() - 5.5) <= 1
    assert abs(columns.mean() - 5.5) <= 1
    # Beyond the picture nothing is defined.
    corner = print_of(sample.channels["a"], regions, 1, 30)
    assert np.isnan(corner.values[0, 0])
    grey = print_grey(one, 10, 100)
    assert set(np.unique(grey)) == {0, 255}
    assert rim_of(one.inside).sum() == 20
    assert print_of(sample.channels["a"], regions, 77, 12).inside.sum() == 0
    assert common_side([]) == 8


# -- names of numbers, sets


def test_a_number_is_found_by_its_name() -> None:
    sample, method = spots()
    table = Evaluator().measure(sample, method)
    name = reference_of(table, 2, "b", "sd")
    assert name == "spots / cell 2 / b / sd"
    assert find_reference(name, [table]) == ("spots", 2, "b", "sd")
    assert find_reference("spots/2", [table]) == ("spots", 2, "a", "mean")
    assert find_reference("spots", [table]) == ("Write sample / class number / channel / quantity.")
    told = extremes([table], each=1)
    assert [(what, where) for what, where, _ in told[:2]] == [
        ("smallest, Mean (counts)", "spots / cell 1 / a / mean"),
        ("largest, Mean (counts)", "spots / cell 3 / a / mean"),
    ]


def test_sets_of_quantities() -> None:
    assert found_quantities("smallest width")[0] == "caliper_min"
    assert found_quantities("p99_5") == ("p99_5",)
    assert found_quantities("no such thing") == ()
    assert len(READY_SETS["Everything"]) > 90
    kept = sets_from_json(sets_to_json({"mine": ("mean", "p37")}))
    assert kept == {"mine": ("mean", "p37")}
    assert sets_from_json("not json") == {}
    assert sets_from_json('{"a": ["mean", "nonsense", 3], "b": 4, "c": []}') == {"a": ("mean",)}


# -- calibration from picks


@pytest.mark.parametrize(
    ("text", "number"),
    [("step 0,15 OD", 0.15), ("64 h", 64), ("−2.5e3", -2500), ("white", None), ("", None)],
)
def test_numbers_in_names(text: str, number: float | None) -> None:
    assert number_in(text) == number


def test_points_are_read_before_the_step() -> None:
    sample, method = spots()
    picks = tuple(
        Pick(number=k, specimen=name, x=x, y=y, size=3, form="square", sample="spots")
        for k, (name, x, y) in enumerate((("0.5 OD", 7, 7), ("dark", 30, 20)), start=1)
    )
    method = method.changed(
        picks=picks,
        steps=(
            step_use("plus", "arithmetic.number", operation="add", number=5),
            step_use("c", "curve.calibrate"),
        ),
    )
    points = points_from_picks(Evaluator(), sample, method, "c", "a")
    assert [(p.intensity, p.value, p.label) for p in points] == [
        (105, 0.5, "0.5 OD"), (15, 0, "dark"),
    ]  # fmt: skip
    with pytest.raises(StepError, match="has no pick"):
        points_from_picks(Evaluator(), sample.renamed("other"), method, "c", "a")


# -- stars


def star_columns(count: int, fwhm: float, ellipticity: float = 0.05) -> dict[str, np.ndarray]:
    rng = np.random.default_rng(2)
    at_random = rng.uniform(-90, 90, count)
    return {
        "star_x": rng.uniform(0, 199, count),
        "star_y": rng.uniform(0, 99, count),
        "fwhm": np.full(count, fwhm),
        "ellipticity": np.full(count, ellipticity),
        "star_orientation": at_random if ellipticity < 0.2 else np.full(count, 30.0),
        "sky": rng.normal(100, 2, count),
    }  # fmt: skip


def star_table(name: str, fwhm: float, ellipticity: float = 0.05) -> RegionTable:
    columns = {"gray": star_columns(30, fwhm, ellipticity)}
    return RegionTable(
        name, "", "", ("star",), np.arange(1, 31), columns, image_pixels=20_000, image_width=200
    )


def test_soft_and_trailed_pictures_are_named() -> None:
    tables = [star_table(f"n{k}", 3.0) for k in range(3)]
    tables += [star_table("soft", 6.0), star_table("trailed", 3.1, 0.5)]
    found = [check for table in tables for check in check_measured(table)]
    assert [(c.sample, c.kind) for c in found] == [("trailed", "trailed")]
    soft = check_measured_batch(tables)
    assert [(c.sample, c.kind) for c in soft] == [("soft", "out of focus")]
    assert "6.0 px wide" in soft[0].text
    assert check_measured_batch(tables[:2]) == []


def test_summaries_of_stars_stand_with_the_samples() -> None:
    frame = sample_frame([star_table("a", 3.0), star_table("b", 3.1, 0.5)])
    assert frame["stars_used"].tolist() == [30, 30]
    assert frame["fwhm_median"].tolist() == [3.0, 3.1]
    assert frame["ellipticity_common"][0] < 0.03
    assert frame["ellipticity_common"][1] == pytest.approx(0.5)
    assert frame["ellipticity_angle"][1] == pytest.approx(30)
    assert frame["sky_median"][0] == pytest.approx(100, abs=2)
    assert star_summary({"mean": np.ones(3)}) == {}


def test_whiskers_lie_along_the_longer_axis() -> None:
    columns = {key: np.array(v) for key, v in {
        "star_x": [10.0], "star_y": [20.0], "ellipticity": [0.5], "star_orientation": [90.0],
    }.items()}  # fmt: skip
    x, y = whiskers(columns, 8.0)
    np.testing.assert_allclose(x, [10, 10], atol=1e-12)
    np.testing.assert_allclose(y, [22, 18])


def test_one_star_looked_at_closely() -> None:
    plane = noisy(moffat_star((81, 81), 40.3, 39.8, 1e5, 4.0), 300, 2)
    look = star_look(plane, 40, 40, StarUse(radius=12, sky_inner=20, sky_outer=30))
    assert (look.x, look.y) == (pytest.approx(40.3, abs=0.02), pytest.approx(39.8, abs=0.02))
    radii, curve = look.curve
    half = float(np.interp(-curve[0] / 2, -curve, radii))
    assert 2 * half == pytest.approx(4.0, rel=0.03)
    # Nothing but noise is left by the fit, and the light grows to all of that in the aperture.
    assert np.nanstd(look.residual) == pytest.approx(2, rel=0.2)
    steps, share = look.growth
    assert np.interp(12, steps, share) == pytest.approx(1, abs=0.01)
    assert np.interp(look.half_flux_radius, steps, share) == pytest.approx(0.5, abs=0.02)
    assert 4 < steady_radius(look) < 20
    nothing = star_look(Plane(np.full((9, 9), np.nan, np.float32)), 4, 4, StarUse())
    assert nothing.distance.size == 0
    assert math.isnan(steady_radius(nothing))


def test_circles_give_way_to_the_one_that_is_dragged() -> None:
    use = StarUse(radius=8, sky_inner=12, sky_outer=20)
    assert use.with_circle("radius", 15).sky_inner == 15
    assert use.with_circle("radius", 30).sky_outer == 31
    assert use.with_circle("sky_inner", 5).radius == 5
    assert use.with_circle("sky_outer", 6).model_dump(include={"radius", "sky_inner"}) == {
        "radius": 5, "sky_inner": 5,
    }  # fmt: skip
    assert use.with_circle("sky_inner", 25).sky_outer == 26
