from __future__ import annotations

import itertools
import re
from collections.abc import Callable
from html.parser import HTMLParser
from pathlib import Path

import imagecodecs
import numpy as np
import pytest
from matplotlib.backends.backend_agg import FigureCanvasAgg

from rilievo.core.batch import items_for, measured, run_batch
from rilievo.core.compare import Comparison, Question, compare
from rilievo.core.errors import ComparisonError, FileUnreadable
from rilievo.core.method.method import Method
from rilievo.core.report.figures import comparison_figure, picture, save_figure
from rilievo.core.report.group_style import group_style
from rilievo.core.report.outputs import write_outputs
from rilievo.core.report.style import FigureLook
from rilievo.core.table.table import RegionTable
from tests.outlines import outline

METHOD = Method(name="A <b>method</b>", outlines=(outline(200.0),))


@pytest.fixture
def outcomes(write_tiff: Callable[..., Path], blobs: np.ndarray) -> list:
    paths = [write_tiff(f"g{g}-{n}.tif", blobs * (g + 1) + n) for g in (0, 1) for n in (1, 2)]
    broken = write_tiff("g1-3.tif", blobs)
    broken.write_text("no image")
    return run_batch(items_for([*paths, broken]), METHOD)


@pytest.fixture
def comparison(outcomes: list) -> Comparison:
    return compare(measured(outcomes), Question(channel="gray"))


def test_the_picture_says_where_its_dots_are(comparison: Comparison) -> None:
    pixels, dots = picture([comparison], 700, 500, 1.0, FigureLook())
    assert pixels.shape == (500, 700, 4)
    samples = [dot for dot in dots if dot.region == 0]
    assert len(samples) == 4
    for dot in samples:
        # The colour of the group is under the place that was given for the dot.
        group = next(g for g, found in comparison.points.items()
                     if dot.sample in [p.sample for p in found])  # fmt: skip
        colour = group_style(comparison.groups, group).colour
        rgb = [int(colour[i : i + 2], 16) for i in (1, 3, 5)]
        under = pixels[round(dot.y), round(dot.x), :3].astype(int)
        assert np.abs(under - rgb).max() < 40
    higher = max(samples, key=lambda dot: dot.value)
    assert higher.y == min(dot.y for dot in samples)


@pytest.mark.parametrize(("width", "groups"), [(7.0, 3), (3.4, 3), (5.0, 12), (2.0, 2)])
def test_labels_of_groups_never_overlap(width: float, groups: int) -> None:
    tables = [
        RegionTable(
            sample=f"s{g}-{n}",
            file="",
            group=f"group number {g}" if groups < 10 else f"g{g}",
            classes=("cell",),
            ids=np.arange(1, 6),
            columns={"dye": {"mean": np.arange(5.0) + g + n}},
        )
        for g in range(groups)
        for n in range(4)
    ]
    figure, _ = comparison_figure([compare(tables, Question(channel="dye"))], (width, 4.0))
    canvas = FigureCanvasAgg(figure)
    canvas.draw()
    below = [text for text in figure.axes[0].texts if text.get_text()]
    boxes = [text.get_window_extent(canvas.get_renderer()) for text in below]
    for one, other in itertools.pairwise(boxes):
        assert one.x1 <= other.x0
    assert all(box.y0 >= 0 for box in boxes)


def test_files_of_the_figure(comparison: Comparison, tmp_path: Path) -> None:
    save_figure([comparison], tmp_path / "a.png", FigureLook())
    assert imagecodecs.png_decode((tmp_path / "a.png").read_bytes()).shape[:2] == (1000, 1400)
    save_figure([comparison], tmp_path / "a.svg", FigureLook())
    save_figure([comparison], tmp_path / "b.svg", FigureLook())
    assert (tmp_path / "a.svg").read_text().startswith("<?xml")
    assert (tmp_path / "a.svg").read_bytes() == (tmp_path / "b.svg").read_bytes()
    with pytest.raises(ComparisonError, match=r"\.png, \.svg or \.pdf"):
        save_figure([comparison], tmp_path / "a.gif", FigureLook())


def test_outputs_of_a_run(outcomes: list, tmp_path: Path) -> None:
    write_outputs(outcomes, METHOD, tmp_path / "out")
    names = {path.name for path in (tmp_path / "out").iterdir()}
    assert names == {
        "regions.csv", "regions.metadata.json", "samples.csv", "method.json", "checks.csv",
        "report.html", "groups.csv", "tests.csv",
    }  # fmt: skip
    assert Method.load(tmp_path / "out" / "method.json") == METHOD
    checks = (tmp_path / "out" / "checks.csv").read_text()
    assert "failed" in checks
    assert "g1-3.tif" in checks


class _Tags(HTMLParser):
    def __init__(self) -> None:
        super().__init__()
        self.open: list[str] = []
        self.links: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag not in ("meta", "br", "link"):
            self.open.append(tag)
        self.links += [v or "" for k, v in attrs if k in ("src", "href") and v and v[0] != "#"]

    def handle_startendtag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.links += [v or "" for k, v in attrs if k in ("src", "href") and v and v[0] != "#"]

    def handle_endtag(self, tag: str) -> None:
        assert self.open.pop() == tag


def test_the_report_stands_alone_and_escapes_names(outcomes: list, tmp_path: Path) -> None:
    write_outputs(outcomes, METHOD, tmp_path)
    page = (tmp_path / "report.html").read_text()
    tags = _Tags()
    tags.feed(page)
    assert tags.open == []
    assert tags.links == [], "no outside reference"
    assert "<b>method</b>" not in page
    assert "&lt;b&gt;method" in page
    assert "g1-3.tif" in page
    assert len(re.findall("<svg", page)) == 1


def test_a_folder_that_cannot_be_made(outcomes: list, tmp_path: Path) -> None:
    (tmp_path / "file").write_text("x")
    with pytest.raises(FileUnreadable):
        write_outputs(outcomes, METHOD, tmp_path / "file" / "out")


def test_groups_are_told_apart_by_colour_and_shape() -> None:
    groups = tuple("abcdefgh")
    styles = [group_style(groups, group) for group in groups]
    assert len({style.colour for style in styles}) == 8
    assert len({style.marker for style in styles}) == 8
