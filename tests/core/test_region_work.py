"""Derived classes, edits by hand, stability, picks, files of regions, several classes."""

from __future__ import annotations

import math
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import tifffile
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from rilievo.core.batch import items_for, measured, run_batch
from rilievo.core.compare import Question, compare
from rilievo.core.errors import FileError, MethodError, StepError
from rilievo.core.image.histogram import Histogram, histogram_of
from rilievo.core.image.image import UNMOVED, Plane, Sample, plane_from_native
from rilievo.core.method import class_edits
from rilievo.core.method.class_definition import Outline, clean_use, hand_threshold
from rilievo.core.method.method import Method, SampleException, step_use
from rilievo.core.pipeline.colour_histograms import colour_histograms
from rilievo.core.pipeline.evaluator import Evaluator, measure
from rilievo.core.pipeline.sample_summary import gather
from rilievo.core.pipeline.threshold_from_picks import (
    ColourProposal,
    Proposal,
    level_between,
    proposed,
    ranges_around,
)
from rilievo.core.pipeline.threshold_stability import (
    Stability,
    area_range,
    change_of_result,
    levels_for,
    stabilities,
    stability_of,
)
from rilievo.core.regions.derived_classes import OF_EACH, OPERATIONS
from rilievo.core.regions.drawn import (
    DrawnRegion,
    cover,
    for_all_samples,
    numbers_of,
    usual_tolerance,
)
from rilievo.core.regions.label_image import read_label_image, write_label_image
from rilievo.core.regions.manual_edits import HandEdit, crossed_by, stencil_in_file
from rilievo.core.regions.region_file import as_drawn, load_regions, save_regions
from rilievo.core.regions.region_set import CLASS_STRIDE, RegionSet
from rilievo.core.regions.shapes import LineShape, RectangleShape, StencilShape
from rilievo.core.report.page import Contents, report_page
from rilievo.core.table.table import region_frame, sample_frame
from tests.outlines import find_regions, outline, reject

MASKS = arrays(np.bool_, (11, 13))


def two_classes(a: np.ndarray, b: np.ndarray) -> Sample:
    planes = {"a": Plane(a.astype(np.float32)), "b": Plane(b.astype(np.float32))}
    return Sample("s", planes)


def derived(one: np.ndarray, two: np.ndarray, operation: str, **fields: object) -> list[RegionSet]:
    made = {"operation": operation, "a": "A", "b": "B", **fields}
    method = Method(
        outlines=(
            outline(0.5, region_class="A", channel="a", clean=()),
            outline(0.5, region_class="B", channel="b", clean=()),
            outline(region_class="C", source="derived", derivation=made, clean=()),
        )
    )
    evaluator = Evaluator()
    return [evaluator.regions(two_classes(one, two), method, k) for k in range(3)]


@settings(max_examples=60)
@given(MASKS, MASKS)
def test_algebra_of_classes(a: np.ndarray, b: np.ndarray) -> None:
    found = {
        key: derived(a, b, key)[2].labels > 0
        for key in ("union", "intersection", "difference", "complement")
    }
    np.testing.assert_array_equal(found["union"], a | b)
    np.testing.assert_array_equal(found["intersection"], a & b)
    # A without B, and A and B, partition A.
    np.testing.assert_array_equal(found["difference"] | found["intersection"], a)
    assert not (found["difference"] & found["intersection"]).any()
    np.testing.assert_array_equal(found["complement"], ~a)
    again = derived(found["complement"], b, "complement")[2].labels > 0
    np.testing.assert_array_equal(again, a, err_msg="complement of the complement")


@settings(max_examples=60)
@given(MASKS, MASKS)
def test_parts_inside_and_the_rest_have_their_parent(a: np.ndarray, b: np.ndarray) -> None:
    cells, _, parts = derived(a, b, "inside")
    np.testing.assert_array_equal(parts.labels > 0, a & b)
    for region in parts.ids.tolist():
        parent = parts.facts(region).parent
        assert set(np.unique(cells.labels[parts.labels == region])) == {parent}
    _, _, rest = derived(a, b, "rest")
    np.testing.assert_array_equal(rest.labels > 0, a & ~b)
    for region in rest.ids.tolist():
        parent = rest.facts(region).parent
        np.testing.assert_array_equal(rest.labels == region, (cells.labels == parent) & ~b)


@settings(max_examples=40)
@given(MASKS, st.sampled_from([0.0, 1.0]), st.sampled_from([1.0, 2.0]))
def test_rings_lie_around_their_own_region(a: np.ndarray, gap: float, width: float) -> None:
    cells, _, rings = derived(a, a, "ring", gap=gap, width=width)
    for y, x in np.argwhere(rings.labels > 0):
        parent = rings.facts(int(rings.labels[y, x])).parent
        away = np.sqrt(((np.argwhere(cells.labels == parent) - (y, x)) ** 2).sum(axis=1)).min()
        others = np.sqrt(((np.argwhere(a) - (y, x)) ** 2).sum(axis=1)).min()
        assert gap < away <= gap + width
        assert away == others, "nearest to its own"
    grown = derived(a, a, "grown", width=width)[2]
    shrunk = derived(a, a, "shrunk", width=width)[2]
    assert shrunk.areas.sum() <= cells.areas.sum() <= grown.areas.sum()
    assert set(OF_EACH) < set(OPERATIONS)


def test_a_rule_needs_its_classes_and_a_scale_for_units() -> None:
    a = np.zeros((6, 6), bool)
    a[2:4, 2:4] = True
    with pytest.raises(StepError, match="choose the classes"):
        derived(a, a, "inside", b="")
    with pytest.raises(StepError, match="pixel size"):
        derived(a, a, "ring", lengths_in="unit")


def test_classes_are_added_renamed_and_removed_with_what_follows_from_them() -> None:
    method = class_edits.added(Method(), "derived", "ring", "cell")
    assert method.outlines[1].derivation.a == "cell"
    assert method.outlines[1].clean == ()
    edited = method.with_exception("s", SampleException(edits=reject((1, 2))))
    renamed = class_edits.renamed(edited, 0, "alga")
    assert renamed.outlines[1].derivation.a == "alga"
    assert renamed.exceptions["s"].edits[0].region_class == "alga"
    with pytest.raises(MethodError, match="already"):
        class_edits.renamed(renamed, 1, "alga")
    with pytest.raises(MethodError, match="is made from"):
        class_edits.without(renamed, 0)
    alone = class_edits.without(renamed, 1)
    assert alone.class_names == ("alga",)
    with pytest.raises(MethodError, match="at least one"):
        class_edits.without(alone, 0)
    assert class_edits.without(class_edits.added(edited, "drawn"), 2).exceptions


# -- edits by hand


def edit(kind: str, regions: RegionSet, *numbers: int, **fields: object) -> HandEdit:
    where = []
    for number in numbers:
        mask, x, y = regions.mask_of(number)
        where.append(StencilShape.of(mask, x, y))
    return HandEdit(kind=kind, region_class="cell", where=tuple(where), **fields)  # type: ignore[arg-type]


def test_edits_hold_while_the_region_is_still_there(blobs: np.ndarray) -> None:
    values = blobs.astype(np.float32)
    plain = find_regions(values, 200)
    gone = edit("reject", plain, 2)
    assert find_regions(values, 200, edits=[gone]).ids.tolist() == [1, 3]
    # A little smaller: the same region. Much smaller: another one.
    smaller = values.copy()
    smaller[30:34, 40:60] = 0
    assert find_regions(smaller, 200, edits=[gone]).count == 2
    smaller[30:45, 40:60] = 0
    lost = find_regions(smaller, 200, edits=[gone])
    assert lost.count == 3
    assert "1 edits" in lost.notes[0]


def test_accepting_takes_back_what_the_clean_up_left_out(blobs: np.ndarray) -> None:
    values = blobs.astype(np.float32)
    keep = clean_use("keep", lower=300.0)
    found = find_regions(values, 200, clean=(keep,))
    assert (found.count, found.dropped) == (1, 2)
    stencil = StencilShape(rows=tuple((y, 10, 29) for y in range(5, 15)))
    accept = HandEdit(kind="accept", region_class="cell", where=(stencil,))
    after = find_regions(values, 200, clean=(keep,), edits=[accept])
    assert after.areas.tolist() == [200, 400]
    assert after.facts(1).edit == "accepted by hand"
    both = find_regions(values, 200, edits=[edit("reject", find_regions(values, 200), 1), accept])
    assert both.count == 3, "the later edit holds"


def test_cutting_and_merging(blobs: np.ndarray) -> None:
    values = blobs.astype(np.float32)
    plain = find_regions(values, 200)
    line = LineShape(x0=35, y0=44, x1=65, y1=34)
    parted = find_regions(values, 200, edits=[edit("cut", plain, 2, shape=line)])
    assert parted.count == 4
    assert parted.areas.sum() == plain.areas.sum()
    y, x = np.argwhere(plain.labels == 2).T
    side = (65 - 35) * (y - 44) - (34 - 44) * (x - 35) > 0
    sizes = sorted(np.bincount(side.astype(int)).tolist())
    assert sorted(parted.areas.tolist())[-2:] == sorted([200, *sizes])[-2:]
    merged = find_regions(values, 200, edits=[edit("merge", plain, 1, 3)])
    assert merged.areas.tolist() == [201, 400]
    assert merged.facts(1).edit == "merged by hand"


def test_redrawing_replaces_the_pixels(blobs: np.ndarray) -> None:
    values = blobs.astype(np.float32)
    plain = find_regions(values, 200)
    box = RectangleShape(x=50, y=40, width=10, height=6)
    after = find_regions(values, 200, edits=[edit("redraw", plain, 2, shape=box)])
    assert sorted(after.areas.tolist()) == [1, 60, 200]


def test_giving_another_class_moves_the_region(
    make_sample: Callable[..., Sample], blobs: np.ndarray
) -> None:
    plain = find_regions(blobs.astype(np.float32), 200)
    give = edit("reclassify", plain, 2, to="debris")
    method = Method(
        outlines=(
            outline(200, region_class="cell"),
            outline(5000, region_class="debris"),
        ),
        exceptions={"s": SampleException(edits=(give,))},
    )
    evaluator = Evaluator()
    sample = make_sample(blobs)
    assert evaluator.regions(sample, method, 0).ids.tolist() == [1, 3]
    taken = evaluator.regions(sample, method, 1)
    assert taken.areas.tolist() == [400]
    table = evaluator.measure(sample, method)
    frame = region_frame([table])
    assert frame["class"].tolist() == ["cell", "cell", "debris"]
    assert frame["edit"].tolist() == ["", "", "class given by hand"]


# -- stability


@settings(max_examples=40)
@given(
    arrays(np.float32, st.tuples(st.integers(1, 9), st.integers(1, 9)),
           elements=st.sampled_from([0.0, 1.0, 2.0, 3.0, 4.0, math.nan])),
    st.sampled_from(["bright", "dark"]), st.sampled_from([4, 8]),
    st.integers(1, 4), st.integers(4, 40),
)  # fmt: skip
def test_stability_equals_a_run_a_level(
    values: np.ndarray, keep: str, connectivity: int, smallest: int, largest: int
) -> None:
    levels = np.array([-0.5, 0.0, 0.5, 1.5, 2.0, 3.5, 4.0])
    found = stability_of(
        values, levels, keep=keep, connectivity=connectivity, smallest=smallest, largest=largest
    )
    for k, level in enumerate(levels):
        regions = find_regions(
            values,
            level,
            keep=keep,  # type: ignore[arg-type]
            connectivity=connectivity,  # type: ignore[arg-type]
            fill=False,
            clean=(clean_use("keep", lower=smallest, upper=largest),),
        )
        assert found.count[k] == regions.count
        assert found.area[k] == regions.areas.sum()
        if regions.count:
            assert found.mean[k] == pytest.approx(values[regions.labels > 0].mean(), rel=1e-5)


def test_the_flattest_stretch_and_the_levels() -> None:
    count = np.array([90, 50, 12, 12, 12, 12, 5, 5, 0, 0.0])
    levels = np.arange(10) * 10.0
    steady = Stability(levels, count, count, count)
    assert steady.flattest() == (20, 50)
    assert Stability(levels, count * 0, count, count).flattest() is None
    rng = np.random.default_rng(1)
    values = rng.normal(100, 5, (64, 64))
    values[20:30, 20:30] += 500
    wanted = levels_for(histogram_of(Plane(values)))
    assert 48 <= wanted.size <= 64
    assert (np.diff(wanted) > 0).all()
    one = Outline(clean=(clean_use("keep", quantity="area_unit", lower=2.0, upper=50.0),))
    assert area_range(one, 0.25) == (8.0, 200.0)
    assert area_range(one, None) == (0.0, math.inf)


def test_change_of_the_result_is_three_runs(
    make_sample: Callable[..., Sample], blobs: np.ndarray
) -> None:
    method = Method(outlines=(outline(420.0),))
    sample = make_sample(blobs)
    changes = change_of_result(Evaluator(), sample, method)
    assert [round(c.level) for c in changes] == [378, 420, 462]
    expected = [find_regions(blobs.astype(float), c.level) for c in changes]
    assert [c.count for c in changes] == [r.count for r in expected]
    assert [c.area for c in changes] == [r.areas.sum() for r in expected]
    drawn = Method(outlines=(outline(source="drawn"),))
    assert change_of_result(Evaluator(), sample, drawn) == ()


# -- picks


def test_the_level_between_picks() -> None:
    found = level_between(np.array([10.0, 12, 30]), np.array([1.0, 2, 3]))
    assert found is not None
    assert (found.level, found.keep, found.right) == (6.5, "bright", 1.0)
    dark = level_between(np.array([1.0, 2]), np.array([8.0, 9, 1.5]))
    assert dark is not None
    assert dark.keep == "dark"
    assert dark.right == pytest.approx(4 / 5)
    assert level_between(np.array([1.0]), np.array([np.nan])) is None


@given(st.lists(st.integers(0, 20), min_size=1, max_size=6),
       st.lists(st.integers(0, 20), min_size=1, max_size=6))  # fmt: skip
def test_no_level_does_better(inside: list[int], outside: list[int]) -> None:
    a, b = np.array(inside, float), np.array(outside, float)
    found = level_between(a, b)
    assert found is not None

    def score(level: float, keep: str) -> float:
        above = (a > level).mean() + (b <= level).mean()
        return float(above if keep == "bright" else 2 - above)

    if len({*inside, *outside}) > 1:
        best = max(score(t, k) for t in np.arange(0.5, 20.5) for k in ("bright", "dark"))
        assert score(found.level, found.keep) == pytest.approx(best)


def test_ranges_around_picks_go_around_the_circle_of_hues() -> None:
    inside = {"hue": np.array([350.0, 5.0]), "value": np.array([100.0, 110.0])}
    outside = {"hue": np.array([30.0, 200.0]), "value": np.array([105.0, 300.0])}
    found = ranges_around(inside, outside)
    assert found is not None
    hue, value = found.ranges
    assert hue.lower is not None
    assert hue.upper is not None
    assert hue.lower > 300
    assert 5 < hue.upper < 30
    assert (value.lower, value.upper) == (95, 115)
    assert found.right == 1.0
    assert ranges_around({}, outside) is None


# -- files


def test_label_images_come_back(tmp_path: Path, blobs: np.ndarray) -> None:
    found = find_regions(blobs.astype(np.float32), 200)
    path = tmp_path / "s-cells.tif"
    write_label_image(found, path)
    assert tifffile.imread(path).dtype == np.uint16
    np.testing.assert_array_equal(read_label_image(path, blobs.shape), found.labels)
    method = Method(
        outlines=(
            outline(
                source="label_image",
                clean=(),
                label_image={"file": str(path).replace("s-cells", "{sample}-cells")},
            ),
        )
    )
    sample = Sample("s", {"g": Plane(blobs.astype(np.float32))})
    again = Evaluator().regions(sample, method)
    np.testing.assert_array_equal(again.labels, found.labels)
    many = RegionSet(
        np.full((2, 2), 70_000, np.int32), *(np.zeros(0, np.int64),) * 3, np.zeros((0, 2)), 0.0
    )
    write_label_image(many, tmp_path / "many.tif")
    assert tifffile.imread(tmp_path / "many.tif").dtype == np.uint32


@pytest.mark.parametrize(
    ("content", "said"),
    [
        (None, "does not exist"),
        (b"text", "no TIFF"),
        (np.zeros((3, 4), np.uint8), "has 4×3 pixels"),
        (np.zeros((5, 5), np.float32), "no label image"),
        (np.zeros((5, 5, 3), np.uint8), "no label image"),
        (np.full((5, 5), -1, np.int16), "below 0"),
    ],
)
def test_what_is_no_label_image_is_named(content: object, said: str, tmp_path: Path) -> None:
    path = tmp_path / "labels.tif"
    if isinstance(content, bytes):
        path.write_bytes(content)
    elif isinstance(content, np.ndarray):
        tifffile.imwrite(path, content)
    with pytest.raises(FileError, match=said) as caught:
        read_label_image(path, (5, 5))
    assert "labels.tif" in str(caught.value)


def test_regions_come_back_from_json(tmp_path: Path, blobs: np.ndarray) -> None:
    found = find_regions(blobs.astype(np.float32), 200)
    path = tmp_path / "regions.json"
    save_regions(path, "cell", as_drawn(found, "s"))
    file = load_regions(path)
    assert file.region_class == "cell"
    drawn = Method(outlines=(outline(source="drawn", drawn=file.regions),))
    sample = Sample("s", {"g": Plane(blobs.astype(np.float32))})
    again = Evaluator().regions(sample, drawn)
    np.testing.assert_array_equal(again.labels, found.labels)
    assert again.facts(2).name == "2"


@pytest.mark.parametrize(
    "text", ["", "{", "[]", '{"format": "rilievo-regions", "version": 9}',
             '{"format": "rilievo-regions", "version": 1, "regions": [{"shape": {"kind": "x"}}]}',
             '{"format": "other", "version": 1}'],
)  # fmt: skip
def test_damaged_region_files_say_so(text: str, tmp_path: Path) -> None:
    (tmp_path / "r.json").write_text(text)
    with pytest.raises(FileError, match=r"r\.json"):
        load_regions(tmp_path / "r.json")


# -- several classes, specimens, batches


def specimens() -> tuple[Sample, Method]:
    pixels = np.zeros((40, 90), np.float32)
    shapes = []
    for k, value in enumerate((10.0, 20, 30, 50)):
        pixels[10:30, 5 + 20 * k : 20 + 20 * k] = value
        shapes.append(
            {
                "shape": {
                    "kind": "rectangle",
                    "x": 12 + 20 * k,
                    "y": 20,
                    "width": 10,
                    "height": 10,
                },
                "name": f"w{k}",
                "group": "early" if k < 2 else "late",
                "attributes": {"hours": str(k)},
            }
        )
    method = Method(outlines=(outline(region_class="swatch", source="drawn", drawn=shapes),))
    return Sample("photo", {"gray": Plane(pixels)}), method


def test_specimens_of_one_photograph_are_compared_like_samples() -> None:
    sample, method = specimens()
    table = measure(sample, method, group="all")
    frame = region_frame([table])
    assert frame["name"].tolist() == ["w0", "w1", "w2", "w3"]
    assert frame["group"].tolist() == ["early", "early", "late", "late"]
    assert frame["hours"].tolist() == ["0", "1", "2", "3"]
    result = compare([table], Question(channel="gray"))
    assert [(s.group, s.samples, s.mean) for s in result.statistics] == [
        ("early", 2, 15.0),
        ("late", 2, 40.0),
    ]


def test_children_are_counted_per_parent() -> None:
    a = np.zeros((20, 40), bool)
    a[2:18, 2:18] = a[2:18, 22:38] = True
    b = np.zeros_like(a)
    b[4:6, 4:6] = b[10:12, 10:14] = b[5:7, 25:27] = True
    method = Method(
        outlines=(
            outline(0.5, region_class="cell", channel="a"),
            outline(0.5, region_class="drop", channel="b"),
            outline(
                region_class="drop in cell",
                source="derived",
                derivation={"operation": "inside", "a": "cell", "b": "drop"},
                clean=(),
            ),
        )
    )
    table = measure(two_classes(a, b), method)
    frame = region_frame([table]).query("channel == 'a'")
    cells = frame[frame["class"] == "cell"]
    assert cells["children"].tolist() == [2, 1]
    drops = frame[frame["class"] == "drop in cell"]
    assert drops["parent"].tolist() == [1, 2, 1]
    assert set(drops["parent_class"]) == {"cell"}
    assert table.ids[-1] > 2 * CLASS_STRIDE
    summary = sample_frame([table]).query("channel == 'a'")
    assert summary["region_count"].tolist() == [2, 3, 3]


def test_a_batch_with_one_level_for_all_and_the_change_in_its_report(
    write_tiff: Callable[..., Path],
) -> None:
    rng = np.random.default_rng(5)
    files = []
    for k, high in enumerate((500, 600)):
        pixels = rng.normal(100, 4, (40, 40))
        pixels[5:20, 5:20] = high
        files.append(write_tiff(f"s{k}.tif", np.round(pixels).astype(np.uint16)))
    method = Method(outlines=(outline(threshold={"pooled": True}),))
    serial = run_batch(items_for(files), method)
    levels = {table.threshold() for table in measured(serial)}
    assert len(levels) == 1
    apart = run_batch(items_for(files), Method(outlines=(outline(),)))
    assert len({table.threshold() for table in measured(apart)}) == 2
    changes = [outcome.changes["cell"] for outcome in serial]
    assert all(len(three) == 3 and three[1].count == 1 for three in changes)
    page = report_page(Contents(serial, method))
    assert "How much depends on the threshold" in page
    assert "Otsu" in page


def test_a_background_beside_the_regions_is_nearer_to_the_truth() -> None:
    y, x = np.mgrid[:200, :200]
    true = 100 + 0.2 * x + 0.1 * y
    values = true.copy()
    for cy, cx in ((40, 50), (100, 120), (150, 60), (60, 150)):
        values[(y - cy) ** 2 + (x - cx) ** 2 < 18**2] += 300
    sample = Sample("s", {"g": Plane(values.astype(np.float32))})
    inside = values > true + 100
    errors = []
    for outside in ("", "cell"):
        step = step_use("b", "background.mesh", tile=24, outside=outside)
        method = Method(steps=(step,), outlines=(Outline(threshold=hand_threshold(120)),))
        evaluator = Evaluator()
        background = values - evaluator.signal(sample, "g", method).pixels
        errors.append(float(np.abs(background - true)[inside].mean()))
        assert evaluator.regions(sample, method).count >= 4
    assert errors[1] < errors[0] / 2
    wrong = Method(steps=(step_use("b", "background.mesh", outside="nothing"),))
    with pytest.raises(StepError, match="not there"):
        Evaluator().signal(sample, "g", wrong)


def test_a_class_that_cannot_be_found_leaves_the_others(
    make_sample: Callable[..., Sample], blobs: np.ndarray
) -> None:
    method = Method(
        outlines=(
            outline(200.0, region_class="cell"),
            outline(region_class="labels", source="label_image", clean=()),
        )
    )
    facts = gather(Evaluator(), make_sample(blobs), ["ch1"], method)
    assert [regions.count for regions in facts.regions] == [3, 0]
    assert facts.error is not None
    assert "No label image is chosen" in facts.error


# -- what tools and cards ask the core for


def test_pixels_come_back_to_the_file_from_a_picture_of_another_size() -> None:
    mask = np.zeros((4, 5), bool)
    mask[1:3, 1:4] = True
    shifted = stencil_in_file(mask, 10, 20, (1.0, 0.0, -3.0, 0.0, 1.0, 4.0))
    assert shifted.rows == ((17, 14, 16), (18, 14, 16))
    turned = stencil_in_file(mask, 0, 0, (0.0, 1.0, 0.0, -1.0, 0.0, 9.0))
    there, left, top = turned.mask()
    # Picture (x, y) is file (9 − y, x): two rows of three become two columns of three.
    assert (left, top, there.shape) == (7, 1, (3, 2))
    assert there.all()


def test_a_line_runs_through_what_it_crosses(blobs: np.ndarray) -> None:
    found = find_regions(blobs.astype(np.float32), 200)
    assert crossed_by(found, LineShape(x0=0, y0=0, x1=70, y1=55), UNMOVED) == [1, 2, 3]
    assert crossed_by(found, LineShape(x0=0, y0=0, x1=0, y1=59), UNMOVED) == []
    # The same line where the picture lies 10 pixels farther to the left.
    moved = (1.0, 0.0, -10.0, 0.0, 1.0, 0.0)
    line = LineShape(x0=50, y0=10, x1=50, y1=12)
    assert crossed_by(found, line, moved) == crossed_by(found, line.moved(-10, 0), UNMOVED)


def test_regions_for_all_samples_stand_in_the_file_or_in_the_registered_picture() -> None:
    shape = RectangleShape(x=20, y=10, width=6, height=4)
    region = DrawnRegion(shape=shape, sample="a")
    shift = (1.0, 0.0, 7.0, 0.0, 1.0, -2.0)
    plain = for_all_samples(region, shift, registered=False)
    assert (plain.sample, plain.frame, plain.shape) == (None, "file", shape)
    moved = for_all_samples(region, shift, registered=True)
    assert (moved.frame, moved.shape) == ("picture", shape.moved(7, -2))
    frame = Plane(np.zeros((40, 50), np.float32), placement=shift)
    on_a = cover([region], "a", lambda: frame, frame).labels
    other = Plane(np.zeros((40, 50), np.float32), placement=(1.0, 0.0, -5.0, 0.0, 1.0, 3.0))
    on_b = cover([moved], "b", lambda: other, other).labels
    np.testing.assert_array_equal(on_a, on_b, err_msg="one place of all registered pictures")


def test_numbers_of_a_region_in_a_sample() -> None:
    disc = {"kind": "ring", "x": 5, "y": 5, "outer": 2}
    grid = {"kind": "grid", "rows": 1, "columns": 3, "first": (1, 1), "across": (9, 1),
            "down": (1, 1), "width": 2, "height": 2}  # fmt: skip
    regions = [
        DrawnRegion(shape=disc),
        DrawnRegion(shape=disc, sample="other"),
        DrawnRegion(shape=grid),
        DrawnRegion(shape=disc),
    ]
    assert [numbers_of(regions, k, "s") for k in range(4)] == [[1], [], [2, 3, 4], [5]]
    assert numbers_of(regions, 1, "other") == [2]


def test_a_flood_begins_with_a_twentieth_of_the_span() -> None:
    values = np.arange(1001, dtype=np.uint16)[None]
    assert usual_tolerance(histogram_of(Plane(values))) == 49
    assert usual_tolerance(Histogram.nothing()) == 0


def test_picks_propose_a_level_from_the_signal_of_all_their_samples() -> None:
    bright, dark = np.zeros((6, 6), np.float32), np.zeros((6, 6), np.float32)
    bright[2, 3], dark[4, 4] = 90, 30
    samples = {"a": Sample("a", {"g": Plane(bright)}), "b": Sample("b", {"g": Plane(dark)})}
    picks = [
        {"x": 3, "y": 2, "inside": True, "sample": "a"},
        {"x": 4, "y": 4, "inside": True, "sample": "b"},
        {"x": 0, "y": 0, "inside": False, "sample": "b"},
        {"x": 99, "y": 0, "inside": False, "sample": "a"},
        {"x": 0, "y": 0, "inside": True, "sample": "gone"},
    ]
    method = Method(
        steps=(step_use("l", "background.level", level=10),),
        outlines=(outline(picks=picks),),
    )
    found = proposed(Evaluator(), samples, method, 0)
    assert isinstance(found, Proposal)
    # Signals 80 and 20 inside, −10 outside: the level lies between 20 and −10.
    assert (found.level, found.keep, found.right) == (5.0, "bright", 1.0)


@pytest.mark.parametrize("space", ["channels", "hsv"])
def test_picks_propose_ranges_of_colours(space: str) -> None:
    planes = {name: np.full((4, 4), 50, np.float32) for name in ("red", "green", "blue")}
    planes["red"][1, 1], planes["green"][1, 1] = 200, 20
    sample = Sample("a", {name: Plane(values) for name, values in planes.items()})
    picks = [
        {"x": 1, "y": 1, "inside": True, "sample": "a"},
        {"x": 3, "y": 3, "inside": False, "sample": "a"},
    ]
    use = {"way": "colour", "parameters": {"space": space}}
    method = Method(outlines=(outline(picks=picks, threshold=use),))
    found = proposed(Evaluator(), {"a": sample}, method, 0)
    assert isinstance(found, ColourProposal)
    names = {"hue", "saturation", "value"} if space == "hsv" else {"red", "green", "blue"}
    assert {one.channel for one in found.ranges} == names
    assert found.right == 1.0


def test_what_was_left_out_is_found_by_a_pixel(blobs: np.ndarray) -> None:
    keep = clean_use("keep", lower=300.0)
    found = find_regions(blobs.astype(np.float32), 200, clean=(keep,))
    out = found.left_out_at(12, 6)
    assert out is not None
    mask, x, y = out
    assert (x, y, mask.shape, mask.all()) == (10, 5, (10, 20), True)
    assert found.left_out_at(45, 35) is None
    assert found.left_out_at(0, 0) is None


def test_label_images_with_gaps_leave_out_only_what_is_there(tmp_path: Path) -> None:
    labels = np.zeros((8, 9), np.uint16)
    labels[0, 0], labels[3:6, 3:6] = 7, 900
    tifffile.imwrite(tmp_path / "s.tif", labels)
    method = Method(
        outlines=(
            outline(
                source="label_image",
                label_image={"file": str(tmp_path / "{sample}.tif")},
                clean=(clean_use("keep", lower=2.0),),
            ),
        )
    )
    found = Evaluator().regions(Sample("s", {"g": Plane(np.zeros((8, 9)))}), method)
    assert found.areas.tolist() == [9]
    assert found.reasons == ("area 1 is below 2 px²",)


def test_stability_of_a_study_shares_its_levels(blobs: np.ndarray) -> None:
    samples = [
        Sample(name, {"g": Plane(values.astype(np.float32))})
        for name, values in (("a", blobs), ("b", blobs * 2))
    ]
    method = Method(outlines=(outline(200.0),))
    found = stabilities(Evaluator(), samples, method, 0)
    assert found["a"].levels is found["b"].levels
    at = int(np.searchsorted(found["a"].levels, 1000))
    assert found["a"].count[at] == 0 < found["b"].count[at]
    drawn_class = Method(outlines=(outline(source="drawn"),))
    with pytest.raises(StepError, match="one level"):
        stabilities(Evaluator(), samples, drawn_class, 0)


def test_histograms_for_colour_ranges() -> None:
    rng = np.random.default_rng(1)
    planes = {
        name: plane_from_native(rng.integers(0, 256, (9, 9)).astype(np.uint8))
        for name in ("red", "green", "blue")
    }
    sample, method, evaluator = Sample("s", planes), Method(), Evaluator()
    found = colour_histograms(evaluator, sample, method, "channels")
    assert found["green"] is evaluator.histogram(sample, "green", method)
    hues = colour_histograms(evaluator, sample, method, "hsv")
    assert set(hues) == {"hue", "saturation", "value"}
    assert 0 <= hues["hue"].lowest <= hues["hue"].highest <= 360
    gray = Sample("gray", {"gray": planes["red"]})
    with pytest.raises(StepError, match="no hue"):
        colour_histograms(evaluator, gray, method, "hsv")
