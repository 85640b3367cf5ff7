"""Figures drawn with Matplotlib: the same code serves the window, the files and the report."""

from __future__ import annotations

import io
import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.atomic_write import write_bytes_safely
from rilievo.core.compare import Comparison
from rilievo.core.compare.plots import PLOTS
from rilievo.core.compare.plots.figure_look import PLAIN, FigureLook
from rilievo.core.compare.plots.panel import NO_PLOT_INPUTS, DotPosition, Panel, PlotInputs
from rilievo.core.errors import ComparisonError
from rilievo.core.report.page_style import FONTS

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

# Matplotlib's font and text caches are not made for two threads at once.
_DRAWING = threading.Lock()

FIGURE_KINDS = ("png", "svg", "pdf")
# Room around a plot in inches, so that labels fit at any size.
_LEFT, _RIGHT, _BOTTOM, _TOP = 0.95, 0.2, 0.8, 0.3
# Several plots stand below each other rather than be narrower than this.
_LEAST_WIDTH = 2.8
# The residuals' share of a plot's height.
_RESIDUALS = 0.22


@dataclass(frozen=True)
class Dot:
    """Where a dot was drawn, in pixels from the top left; region 0 is a sample's mean."""

    x: float
    y: float
    sample: str
    region: int
    value: float


def use_fonts() -> None:
    """Make the program's own typeface known to the figures; loads what draws them."""
    from matplotlib import font_manager  # noqa: PLC0415 (slow to import)

    with _DRAWING:
        font_files = {entry.fname for entry in font_manager.fontManager.ttflist}
        for file in sorted(FONTS.glob("*.otf")):
            if str(file) not in font_files:
                font_manager.fontManager.addfont(file)


def _columns(count: int, inches: float = 1000.0) -> int:
    """How many plots stand in a row: so few that each is wide enough to be read."""
    columns = count if count < 4 else (count + 1) // 2
    return max(min(columns, int(inches / _LEAST_WIDTH)), 1)


def comparison_figure(
    comparisons: Sequence[Comparison],
    size: tuple[float, float] = (7.0, 5.0),
    dpi: float = 100.0,
    look: FigureLook = PLAIN,
    inputs: PlotInputs = NO_PLOT_INPUTS,
) -> tuple[Figure, list[tuple[Axes, list[DotPosition]]]]:
    """Return the figure, a plot a comparison, and where its dots are in data units.

    size : inches. inputs : histograms and pictures, for the plots that show them.
    """
    from matplotlib.figure import Figure  # noqa: PLC0415 (slow to import)

    figure = Figure(figsize=size, dpi=dpi, facecolor=look.ground)
    first = comparisons[0]
    kind = PLOTS[first.question.shown_as]
    if kind.whole_figure:
        return figure, [kind.draw(figure, first, look, inputs)]
    across = _columns(len(comparisons), size[0])
    down = -(-len(comparisons) // across)
    width, height = size[0] / across, size[1] / down
    positions = []
    for k, comparison in enumerate(comparisons):
        column, row = k % across, k // across
        corner = (column * width + _LEFT, size[1] - (row + 1) * height + _BOTTOM)
        inner = (max(width - _LEFT - _RIGHT, 0.5), max(height - _BOTTOM - _TOP, 0.5))
        residuals = kind.residuals and bool(comparison.fits)
        lower = _RESIDUALS * inner[1] if residuals else 0.0
        gap = 0.12 if residuals else 0.0
        axes = _axes(figure, corner[0], corner[1] + lower + gap, inner[0], inner[1] - lower - gap,
                     look)  # fmt: skip
        below = _axes(figure, corner[0], corner[1], inner[0], lower, look) if residuals else None
        panel = Panel(axes, below, comparison, look, inner, inputs)
        positions.append((axes, kind.draw(panel)))
        panel.flush()
    return figure, positions


def _axes(
    figure: Figure, left: float, bottom: float, width: float, height: float, look: FigureLook
) -> Axes:
    """Axes at a position in inches."""
    whole = figure.get_size_inches()
    axes = figure.add_axes(
        (left / whole[0], bottom / whole[1], width / whole[0], max(height, 0.1) / whole[1])
    )
    look.dress(axes, "y")
    axes.tick_params(axis="both", pad=6)
    return axes


def _family(font: str) -> list[str]:
    from matplotlib import font_manager  # noqa: PLC0415

    font_names = {entry.name for entry in font_manager.fontManager.ttflist}
    return [font, "DejaVu Sans"] if font in font_names else ["DejaVu Sans"]


def _context(look: FigureLook) -> Any:
    import matplotlib  # noqa: PLC0415 (slow to import)

    return matplotlib.rc_context(
        {
            "font.family": _family(look.font),
            "svg.fonttype": "path",
            "pdf.fonttype": 42,
            "svg.hashsalt": "rilievo",
            "axes.unicode_minus": True,
        }
    )


def picture(
    comparisons: Sequence[Comparison],
    width: int,
    height: int,
    scale: float,
    look: FigureLook,
    inputs: PlotInputs = NO_PLOT_INPUTS,
) -> tuple[NDArray[np.uint8], list[Dot]]:
    """Return the figure as shape (height, width, 4) RGBA for a screen, and where its dots are.

    width, height : device pixels. scale : device pixels per logical pixel.
    """
    from matplotlib.backends.backend_agg import FigureCanvasAgg  # noqa: PLC0415

    dpi = 100.0 * scale
    use_fonts()
    with _DRAWING, _context(look):
        size = (width / dpi, height / dpi)
        figure, positions = comparison_figure(comparisons, size, dpi, look, inputs)
        canvas = FigureCanvasAgg(figure)
        canvas.draw()
        pixels = np.asarray(canvas.buffer_rgba()).copy()
        dots = []
        for axes, points in positions:
            if not points:
                continue
            at = axes.transData.transform([(point.x, point.y) for point in points])
            dots += [
                Dot(float(x), float(height - y), point.sample, point.region, point.value)
                for (x, y), point in zip(at, points, strict=True)
            ]
    return pixels, dots


def figure_pixels(
    make: Callable[[tuple[float, float], float], Figure],
    width: int,
    height: int,
    scale: float,
    look: FigureLook,
) -> NDArray[np.uint8]:
    """Return a figure as shape (height, width, 4) RGBA. make : (inches, dpi) → the figure."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg  # noqa: PLC0415

    dpi = 100.0 * scale
    use_fonts()
    with _DRAWING, _context(look):
        canvas = FigureCanvasAgg(make((width / dpi, height / dpi), dpi))
        canvas.draw()
        return np.asarray(canvas.buffer_rgba()).copy()


def figure_bytes(make: Callable[[], Figure], kind: str, look: FigureLook) -> bytes:
    """Return a figure as the bytes of a file; kind is "png", "svg" or "pdf"."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg  # noqa: PLC0415

    use_fonts()
    with _DRAWING, _context(look):
        figure = make()
        FigureCanvasAgg(figure)
        buffer = io.BytesIO()
        figure.savefig(buffer, format=kind, metadata=_metadata(kind))
    return buffer.getvalue()


def _metadata(kind: str) -> dict[str, Any]:
    """Without the date, which would make two equal figures differ."""
    return {"svg": {"Date": None}, "pdf": {"CreationDate": None}}.get(kind, {})


def encoded(
    comparisons: Sequence[Comparison],
    kind: str,
    look: FigureLook,
    dpi: float = 200.0,
    inputs: PlotInputs = NO_PLOT_INPUTS,
    *,
    clear: bool = False,
) -> bytes:
    """Return the figure as the bytes of a file; kind is "png", "svg" or "pdf".

    clear : the page shows through.
    """
    from matplotlib.backends.backend_agg import FigureCanvasAgg  # noqa: PLC0415

    across = _columns(len(comparisons))
    size = (7.0 if across == 1 else 4.4 * across, 5.0 * -(-len(comparisons) // across))
    use_fonts()
    with _DRAWING, _context(look):
        figure, _ = comparison_figure(comparisons, size, dpi, look, inputs)
        FigureCanvasAgg(figure)
        buffer = io.BytesIO()
        figure.savefig(buffer, format=kind, metadata=_metadata(kind), transparent=clear)
    return buffer.getvalue()


def save_figure(
    comparisons: Sequence[Comparison],
    path: Path,
    look: FigureLook,
    inputs: PlotInputs = NO_PLOT_INPUTS,
) -> None:
    """Write the figure as PNG, SVG or PDF, by the name's ending. Raises FileUnreadable."""
    kind = path.suffix.lower().lstrip(".")
    if kind not in FIGURE_KINDS:
        raise ComparisonError(f"“{path.name}” must end in .png, .svg or .pdf.")
    write_bytes_safely(path, encoded(comparisons, kind, look, inputs=inputs))
