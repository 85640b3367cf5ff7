"""A sample as a notebook shows it: a small picture and a few facts."""

from __future__ import annotations

import base64
from collections.abc import Mapping
from html import escape
from io import BytesIO
from typing import Any

import numpy as np
from numpy.typing import NDArray

_SIDE = 160
_MOST_CHANNELS = 4
_LOW, _HIGH = 1.0, 99.8


def sample_html(name: str, line: str, planes: Mapping[str, NDArray[Any]]) -> str:
    """Return a sample as HTML: its channels, at most four, stretched between two percentiles."""
    shown = list(planes.items())[:_MOST_CHANNELS]
    pictures = "".join(
        f'<figure style="display:inline-block;margin:0 8px 0 0"><img alt="{escape(channel)}" '
        f'src="data:image/png;base64,{_png(pixels)}">'
        f"<figcaption>{escape(channel)}</figcaption></figure>"
        for channel, pixels in shown
    )
    more = len(planes) - len(shown)
    left = f"<p>and {more} more channels</p>" if more else ""
    return f"<div><p><b>{escape(name)}</b>: {escape(line)}</p>{pictures}{left}</div>"


def small_picture(pixels: NDArray[Any], side: int = _SIDE) -> NDArray[np.uint8]:
    """Return every n-th pixel as gray, sides at most `side`; for looking at only."""
    step = max(1, -(-max(pixels.shape) // side))
    values = pixels[::step, ::step].astype(np.float64)
    defined = values[np.isfinite(values)]
    if defined.size == 0:
        return np.zeros(values.shape, np.uint8)
    low, high = np.percentile(defined, [_LOW, _HIGH])
    span = high - low if high > low else 1.0
    shares = np.nan_to_num((values - low) / span, nan=0.0, posinf=1.0, neginf=0.0)
    return np.asarray(np.clip(255 * shares, 0, 255), np.uint8)


def _png(pixels: NDArray[Any]) -> str:
    from PIL import Image  # noqa: PLC0415 (notebooks only)

    buffer = BytesIO()
    Image.fromarray(small_picture(pixels)).save(buffer, "PNG")
    return base64.b64encode(buffer.getvalue()).decode()
