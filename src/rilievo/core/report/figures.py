"""Figures drawn with Matplotlib: the same code serves the window, the files and the report."""

from __future__ import annotations

import io
import math
import threading
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.compare import Comparison, GroupStatistics
from rilievo.core.errors import ComparisonError
from rilievo.core.report.group_style import group_style
from rilievo.core.writing import write_bytes_safely

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

# Matplotlib's font and text caches are not made for two threads at once.
_DRAWING = threading.Lock()

_HALF_WIDTH = 0.3
_INTERVAL_AT = 0.39
_MARKER_AREA = 62.0
# Inches a group needs for its name, and for its numbers in one line below.
_ROOM_FOR_NAME, _ROOM_FOR_LINE = 0.8, 1.4


@dataclass(frozen=True)
class FigureLook:
    """Colours and font of a figure."""

    ground: str = "#FFFFFF"
    ink: str = "#26302E"
    faint: str = "#5F645F"
    hairline: str = "#DAD5C8"
    font: str = "Inter"


@dataclass(frozen=True)
class Dot:
    """Where a dot was drawn, in pixels from the top left; region 0 is a sample's mean."""

    x: float
    y: float
    sample: str
    region: int
    value: float


def use_font_files(folder: Path) -> None:
    """Make the font files of a folder known to the figures."""
    from matplotlib import font_manager  # noqa: PLC0415 (slow to import)

    with _DRAWING:
        known = {entry.fname for entry in font_manager.fontManager.ttflist}
        for file in sorted(folder.glob("*.otf")):
            if str(file) not in known:
                font_manager.fontManager.addfont(file)


def _spread(count: int) -> NDArray[np.float64]:
    """Even pseudo-random offsets in −1 … 1, the same every time (golden-ratio sequence)."""
    return np.asarray((np.arange(count) * 0.618033988749895 % 1.0) * 2 - 1, dtype=np.float64)


def _sample_places(count: int) -> NDArray[np.float64]:
    if count == 1:
        return np.zeros(1)
    return np.linspace(-_HALF_WIDTH * 0.75, _HALF_WIDTH * 0.75, count)


def _figure(size: tuple[float, float], dpi: float, look: FigureLook) -> tuple[Figure, Axes]:
    from matplotlib.figure import Figure  # noqa: PLC0415 (slow to import)

    figure = Figure(figsize=size, dpi=dpi, facecolor=look.ground)
    axes = figure.add_axes((0.0, 0.0, 1.0, 1.0))
    # Margins in inches, so that labels have room at any size.
    left, right, bottom, top = 0.95, 0.2, 0.8, 0.3
    axes.set_position(
        (
            left / size[0],
            bottom / size[1],
            max(size[0] - left - right, 0.5) / size[0],
            max(size[1] - bottom - top, 0.5) / size[1],
        )
    )
    axes.set_facecolor(look.ground)
    for side in ("top", "right", "left", "bottom"):
        axes.spines[side].set_visible(False)
    axes.grid(axis="y", color=look.hairline, linewidth=0.8)
    axes.set_axisbelow(True)
    axes.tick_params(axis="both", length=0, labelcolor=look.faint, labelsize=9, pad=6)
    return figure, axes


def _draw_mean(axes: Axes, place: int, statistics: GroupStatistics, look: FigureLook) -> None:
    if not math.isfinite(statistics.mean):
        return
    ends = (place - _HALF_WIDTH, place + _HALF_WIDTH)
    axes.plot(ends, (statistics.mean,) * 2, color=look.ink, linewidth=1.6, zorder=4)
    low, high = statistics.interval
    if math.isfinite(low):
        at = place + _INTERVAL_AT
        axes.errorbar(
            [at],
            [(low + high) / 2],
            yerr=[[(high - low) / 2], [(high - low) / 2]],
            color=look.ink,
            capsize=3.5,
            capthick=1.4,
            linewidth=1.4,
            fmt="none",
            zorder=4,
        )


def _group_label(statistics: GroupStatistics, region_class: str, *, narrow: bool) -> str:
    plural = "s" if statistics.regions != 1 else ""
    samples = f"{statistics.samples} sample{'s' if statistics.samples != 1 else ''}"
    between = "\n" if narrow else " · "
    return f"{samples}{between}{statistics.regions} {region_class}{plural}"


def comparison_figure(
    comparison: Comparison,
    size: tuple[float, float] = (7.0, 5.0),
    dpi: float = 100.0,
    look: FigureLook = FigureLook(),
) -> tuple[Figure, list[tuple[float, float, str, int, float]]]:
    """Return the figure and its dots as (x, y in data units, sample, region, value).

    Small dots are regions, large ones samples (mean over regions); the line is the mean of the
    samples, the bar beside it its 95 % confidence interval. size : inches.
    """
    figure, axes = _figure(size, dpi, look)
    dots: list[tuple[float, float, str, int, float]] = []
    for place, statistics in enumerate(comparison.statistics):
        style = group_style(comparison.groups, statistics.group)
        points = comparison.points[statistics.group]
        width = _HALF_WIDTH * 0.7 / max(len(points), 1)
        for offset, point in zip(_sample_places(len(points)), points, strict=True):
            xs = place + offset + _spread(point.values.size) * width
            axes.scatter(
                xs, point.values, s=14, color=style.colour, alpha=0.38, linewidths=0, zorder=2
            )
            axes.scatter(
                [place + offset],
                [point.value],
                s=_MARKER_AREA * (1.35 if style.marker in "^v" else 1.0),
                color=style.colour,
                marker=style.marker,
                edgecolors=look.ground,
                linewidths=0.8,
                zorder=5,
            )
            dots += [
                (float(x), float(v), point.sample, int(r), float(v))
                for x, v, r in zip(xs, point.values, point.regions, strict=True)
            ]
            dots.append((place + float(offset), point.value, point.sample, 0, point.value))
        _draw_mean(axes, place, statistics, look)
    _label_axes(axes, comparison, look, size[0])
    return figure, dots


def _label_axes(axes: Axes, comparison: Comparison, look: FigureLook, inches: float) -> None:
    axes.set_xlim(-0.6, max(len(comparison.groups), 1) - 0.4)
    axes.margins(y=0.08)
    low, high = axes.get_ylim()
    values = [p.values.min() for points in comparison.points.values() for p in points]
    if values and min(values) >= 0:
        axes.set_ylim(0, high)
    elif low == high:
        axes.set_ylim(low - 1, high + 1)
    axes.set_xticks(range(len(comparison.groups)), comparison.groups)
    room = axes.get_position().width * inches / max(len(comparison.groups), 1)
    crowded = room < _ROOM_FOR_NAME
    for label in axes.get_xticklabels():
        label.set_fontsize(9 if crowded else 10)
        label.set_rotation(20 if crowded else 0)
        label.set_horizontalalignment("right" if crowded else "center")
        label.set_fontweight("bold")
        label.set_color(look.ink)
    for place, statistics in enumerate(comparison.statistics):
        if crowded:
            break
        axes.annotate(
            _group_label(statistics, comparison.region_class, narrow=room < _ROOM_FOR_LINE),
            (place, 0),
            xycoords=("data", "axes fraction"),
            xytext=(0, -24),
            textcoords="offset points",
            ha="center",
            va="top",
            fontsize=8.5,
            color=look.faint,
        )
    axes.set_ylabel(comparison.label, color=look.ink, fontsize=9.5, labelpad=10)
    axes.yaxis.set_major_formatter(lambda value, _: f"{value:,.6g}".replace(",", "\u2009"))


def _family(font: str) -> list[str]:
    from matplotlib import font_manager  # noqa: PLC0415

    known = {entry.name for entry in font_manager.fontManager.ttflist}
    return [font, "DejaVu Sans"] if font in known else ["DejaVu Sans"]


def _context(look: FigureLook) -> Any:
    import matplotlib  # noqa: PLC0415 (slow to import)

    return matplotlib.rc_context(
        {
            "font.family": _family(look.font),
            "svg.fonttype": "path",
            "svg.hashsalt": "rilievo",
            "axes.unicode_minus": True,
        }
    )


def picture(
    comparison: Comparison, width: int, height: int, scale: float, look: FigureLook
) -> tuple[NDArray[np.uint8], list[Dot]]:
    """Return the figure as shape (height, width, 4) RGBA for a screen, and where its dots are.

    width, height : device pixels. scale : device pixels per logical pixel.
    """
    from matplotlib.backends.backend_agg import FigureCanvasAgg  # noqa: PLC0415

    dpi = 100.0 * scale
    with _DRAWING, _context(look):
        figure, dots = comparison_figure(comparison, (width / dpi, height / dpi), dpi, look)
        canvas = FigureCanvasAgg(figure)
        canvas.draw()
        pixels = np.asarray(canvas.buffer_rgba()).copy()
        if dots:
            xy = figure.axes[0].transData.transform([(x, y) for x, y, *_ in dots])
        else:
            xy = np.zeros((0, 2))
    places = [
        Dot(float(x), float(height - y), sample, region, value)
        for (x, y), (_, _, sample, region, value) in zip(xy, dots, strict=True)
    ]
    return pixels, places


def encoded(comparison: Comparison, kind: str, look: FigureLook, dpi: float = 200.0) -> bytes:
    """Return the figure as the bytes of a file; kind is "png" or "svg"."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg  # noqa: PLC0415

    # The date would make two equal figures differ.
    metadata = {"Date": None} if kind == "svg" else {}
    with _DRAWING, _context(look):
        figure, _ = comparison_figure(comparison, (7.0, 5.0), dpi, look)
        FigureCanvasAgg(figure)
        buffer = io.BytesIO()
        figure.savefig(buffer, format=kind, metadata=metadata)
    return buffer.getvalue()


def save_figure(comparison: Comparison, path: Path, look: FigureLook) -> None:
    """Write the figure as PNG or SVG, by the name's ending. Raises FileUnreadable."""
    kind = path.suffix.lower().lstrip(".")
    if kind not in ("png", "svg"):
        raise ComparisonError(f"“{path.name}” must end in .png or .svg.")
    write_bytes_safely(path, encoded(comparison, kind, look))
