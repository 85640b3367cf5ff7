"""The noise of a camera from image files, with its curve; and the errors of a batch as a table."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.batch import Measurer
from rilievo.core.compare.plots.figure_look import PLAIN, FigureLook
from rilievo.core.errors import StepError
from rilievo.core.files import read_sample
from rilievo.core.files.sample_ref import SampleRef
from rilievo.core.image.camera_noise import (
    CameraNoise,
    PhotonTransfer,
    paired_by_level,
    photon_transfer,
)
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.uncertainty import DRAWS, camera_of, errors_of_numbers
from rilievo.core.progress import no_report
from rilievo.core.regions.region_set import CLASS_STRIDE, number_in_class
from rilievo.core.result_frame import ResultFrame

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_COLUMNS = ("sample", "class", "region", "channel", "quantity", "value", "error", "error_pixels",
            "error_background", "error_finding")  # fmt: skip


def camera_from_files(
    flats: Sequence[Path], darks: Sequence[Path], channel: str = ""
) -> PhotonTransfer:
    """Return the noise of the camera that took the frames; pairs are found by their levels.

    channel : "" for the first. Raises a FileError, StepError.
    """
    of_flats, of_darks = ([_pixels(path, channel) for path in some] for some in (flats, darks))
    dark_pairs = list(zip(of_darks[::2], of_darks[1::2], strict=False))
    pairs = paired_by_level(of_flats)
    if len(pairs) < 2:
        raise StepError(
            f"Of {len(of_flats)} flats {len(pairs)} pairs have one level; take two frames at each "
            "of several exposures."
        )
    return photon_transfer(pairs, dark_pairs)


def _pixels(path: Path, channel: str) -> NDArray[Any]:
    sample = read_sample(path)
    name = channel or sample.channel_names[0]
    if name not in sample.channels:
        raise StepError(f"“{path.name}” has no channel “{name}”.")
    return sample.channels[name].pixels


def transfer_figure(
    transfer: PhotonTransfer,
    size: tuple[float, float] = (6.0, 4.2),
    dpi: float = 100.0,
    look: FigureLook = PLAIN,
) -> Figure:
    """Return the variance of pairs against their level, with the line through them."""
    from matplotlib.figure import Figure  # noqa: PLC0415 (slow to import)

    figure = Figure(figsize=size, dpi=dpi, facecolor=look.ground, layout="constrained")
    axes = figure.add_subplot()
    look.dress(axes)
    x = np.geomspace(max(float(transfer.level[transfer.level > 0].min()) / 3, 1e-3),
                     float(transfer.level.max()) * 1.2, 200)  # fmt: skip
    axes.plot(x, transfer.noise.variance(x + transfer.noise.dark), color=look.ink, linewidth=1.6)
    for is_used, marker, name in ((True, "o", "pairs"), (False, "x", "left out")):
        some = transfer.used == is_used
        if some.any():
            colour = "#0072B2" if is_used else look.check
            axes.scatter(transfer.level[some], transfer.variance[some], color=colour, marker=marker,
                         s=36, zorder=3, label=name)  # fmt: skip
    axes.set_xscale("log")
    axes.set_yscale("log")
    axes.set_xlabel("Level above dark (counts)", color=look.ink, fontsize=9.5)
    axes.set_ylabel("Variance of a pixel (counts²)", color=look.ink, fontsize=9.5)
    axes.legend(frameon=False, fontsize=9, labelcolor=look.ink)
    return figure


def errors_frame(
    samples: Sequence[SampleRef],
    method: Method,
    measurer: Measurer,
    noise: CameraNoise | None = None,
    *,
    draws: int = DRAWS,
    report: Callable[[float], None] = no_report,
) -> tuple[ResultFrame, dict[str, str]]:
    """Return the standard error of each number of a batch, and why samples have none.

    measurer : reads the samples. noise : of the camera; None takes what each file states. A row a
    region, channel and quantity of the method; stars, whose flux has an error of its own, are left
    out.
    """
    rows_of, failures = measurer.each(
        samples, [method], lambda ref, analyses: _rows_of(ref, analyses[0], noise, draws), report
    )
    rows = [row for of_sample in rows_of.values() for row in of_sample]
    return ResultFrame.of_rows(_COLUMNS, rows), failures


def errors_in_words(frame: ResultFrame) -> list[str]:
    """Return how large the errors of means are, a line a channel."""
    means: dict[str, list[dict[str, Any]]] = {}
    for row in frame.records():
        if row["quantity"] == "mean":
            means.setdefault(row["channel"], []).append(row)
    sentences = []
    for channel, rows in means.items():
        columns = {key: np.array([row[key] for row in rows], np.float64) for key in _COLUMNS[5:]}
        value, error = np.abs(columns["value"]), columns["error"]
        usable = (value > 0) & np.isfinite(error)
        if not usable.any():
            continue
        share = 100 * float(np.median(error[usable] / value[usable]))
        parts = [
            f"{words} {float(np.nanmedian(columns[key])):.2g}"
            for key, words in (("error_pixels", "pixels"), ("error_background", "background"),
                               ("error_finding", "finding the region"))
            if np.isfinite(columns[key]).any()
        ]  # fmt: skip
        sentences.append(
            f"{channel}: the mean of a region has a standard error of "
            f"{float(np.nanmedian(error)):.3g} ({share:.2g} %) from the noise of the camera; "
            f"medians over {int(usable.sum())} regions, of which {', '.join(parts)}."
        )
    return sentences


def errors_of_table(
    ref: SampleRef,
    analysis: Analysis,
    noise: CameraNoise | None,
    report: Callable[[float], None] = no_report,
) -> dict[tuple[str, str], dict[int, float]]:
    """Return the standard errors of a sample's numbers: (channel, quantity) → region → error.

    As `errors_frame`. Raises errors as measuring does, StepError without the camera's noise.
    """
    error_of: dict[tuple[str, str], dict[int, float]] = {}
    for row in _rows_of(ref, analysis, noise, DRAWS, report):
        position = analysis.method.class_index(row[1])
        error_of.setdefault((row[3], row[4]), {})[position * CLASS_STRIDE + row[2]] = row[6]
    return error_of


def _rows_of(
    ref: SampleRef,
    analysis: Analysis,
    noise: CameraNoise | None,
    draws: int,
    report: Callable[[float], None] = no_report,
) -> list[tuple[Any, ...]]:
    method, camera = analysis.method, camera_of(analysis.given, noise)
    table = analysis.table(ref.group)
    rows: list[tuple[Any, ...]] = []
    for position, outline in enumerate(method.outlines):
        if outline.source == "stars":
            continue
        in_class = table.of_class(position)
        ids = table.ids[in_class]
        for channel in table.channels:
            errors = errors_of_numbers(
                analysis, position, channel, method.measure.quantities, camera, draws=draws,
                report=report,
            )  # fmt: skip
            for key, region_errors in errors.items():
                values = table.column(channel, key)[in_class]
                columns = (
                    region_errors.total,
                    region_errors.pixels,
                    region_errors.background,
                    region_errors.found,
                )
                rows += [
                    (ref.name, outline.region_class, number_in_class(region), channel, key,
                     float(values[k]), *(float(column[k]) for column in columns))
                    for k, region in enumerate(ids.tolist())
                ]  # fmt: skip
    return rows
