"""Measurements as a notebook shows them: how values are spread, and the first rows."""

from __future__ import annotations

from collections.abc import Mapping
from html import escape
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    import pandas

_WIDE, _HIGH, _BINS = 160, 48, 24
_FIRST_ROWS = 6
Column = NDArray[np.float64]


def table_html(title: str, frame: pandas.DataFrame, spread: Mapping[str, Column]) -> str:
    """Return measurements as HTML: a histogram a channel over the first rows.

    spread : heading → values, of which those that are no numbers are left out.
    """
    finite = {text: values[np.isfinite(values)] for text, values in spread.items()}
    pictures = "".join(
        f'<figure style="display:inline-block;margin:0 12px 0 0">{_bars(values)}'
        f"<figcaption>{escape(text)}</figcaption></figure>"
        for text, values in finite.items()
        if values.size
    )
    rows = frame.head(_FIRST_ROWS).to_html(index=False, border=0)
    left = len(frame) - min(len(frame), _FIRST_ROWS)
    more = f"<p>and {left} more rows</p>" if left else ""
    return f"<div><p><b>{escape(title)}</b></p>{pictures}{rows}{more}</div>"


def _bars(values: Column) -> str:
    counts, _ = np.histogram(values, _BINS)
    side = _WIDE / _BINS
    bars = "".join(
        f'<rect x="{k * side:.1f}" y="{_HIGH * (1 - n / counts.max()):.1f}" '
        f'width="{side - 1:.1f}" height="{_HIGH * n / counts.max():.1f}"/>'
        for k, n in enumerate(counts.tolist())
        if n
    )
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{_WIDE}" height="{_HIGH}" '
        f'fill="#5A7D6F">{bars}</svg>'
    )
