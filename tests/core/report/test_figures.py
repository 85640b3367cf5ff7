from __future__ import annotations

import itertools
from pathlib import Path

import imagecodecs
import numpy as np
import pytest
from matplotlib.backends.backend_agg import FigureCanvasAgg

from rilievo.core.batch import measured
from rilievo.core.compare import Comparison, Question, compare
from rilievo.core.compare.plots.figure_look import FigureLook
from rilievo.core.compare.plots.group_style import group_style
from rilievo.core.errors import ComparisonError
from rilievo.core.report.figures import comparison_figure, picture, save_figure
from rilievo.core.table.table import RegionTable


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
