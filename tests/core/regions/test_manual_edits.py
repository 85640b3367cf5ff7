"""Derived classes, edits by hand, stability, picks, files of regions, several classes."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from rilievo.core.image.image import UNMOVED, Sample
from rilievo.core.method.class_definition import clean_use
from rilievo.core.method.method import Method, SampleException
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.regions.manual_edits import HandEdit, crossed_by, stencil_in_file
from rilievo.core.regions.pixel_shapes import StencilShape
from rilievo.core.regions.region_set import RegionSet
from rilievo.core.regions.shapes import LineShape, RectangleShape
from rilievo.core.table.table import region_frame
from tests.outlines import find_regions, outline


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
    cache = AnalysisCache()
    sample = make_sample(blobs)
    assert Analysis(sample, method, cache).regions(0).ids.tolist() == [1, 3]
    taken = Analysis(sample, method, cache).regions(1)
    assert taken.areas.tolist() == [400]
    table = Analysis(sample, method, cache).table()
    frame = region_frame([table]).to_pandas()
    assert frame["class"].tolist() == ["cell", "cell", "debris"]
    assert frame["edit"].tolist() == ["", "", "class given by hand"]


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


def test_what_was_left_out_is_found_by_a_pixel(blobs: np.ndarray) -> None:
    keep = clean_use("keep", lower=300.0)
    found = find_regions(blobs.astype(np.float32), 200, clean=(keep,))
    out = found.left_out_at(12, 6)
    assert out is not None
    mask, x, y = out
    assert (x, y, mask.shape, mask.all()) == (10, 5, (10, 20), True)
    assert found.left_out_at(45, 35) is None
    assert found.left_out_at(0, 0) is None
