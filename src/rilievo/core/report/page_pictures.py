"""Small pictures of samples painted for the page, all of them in the same display range."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.image import ValueSource
from rilievo.core.image.pyramid import Pyramid
from rilievo.core.pipeline.sample_pictures import Ends, Shot, SmallPictures
from rilievo.core.report.page_style import LOOKS
from rilievo.core.view.palettes import ViewStyle
from rilievo.core.view.render import RegionLayer, Shading, painted
from rilievo.core.view.sampling import Viewport


def ends_for(samples: Iterable[SmallPictures]) -> dict[tuple[str, ValueSource], Ends]:
    """Return display ranges that suit all samples: from the lowest low to the highest high end."""
    ends_of: dict[tuple[str, ValueSource], list[Ends]] = {}
    for small in samples:
        for key, plane in small.planes.items():
            ends_of.setdefault(key, []).append(plane.ends)
    return {
        key: (min(low for low, _ in ends), max(high for _, high in ends))
        for key, ends in ends_of.items()
    }


def shot_pixels(
    small: SmallPictures,
    shot: Shot,
    ends: Ends,
    style: ViewStyle = ViewStyle(),  # noqa: B008 (immutable)
) -> NDArray[np.uint8]:
    """Return one of a sample's pictures, shape (height, width, 3)."""
    values = small.planes[shot.key].values
    height, width = values.shape
    layers = [small.labels[index] for index in shot.classes]
    colours = painted(
        Pyramid(values),
        Viewport(left=0.0, top=0.0, zoom=1.0, width=width, height=height),
        ends,
        LOOKS,
        RegionLayer(labels=layers[0] if layers else None, others=layers[1:]),
        shading=Shading(style=style),
    )
    bytes_of = colours.view(np.uint8).reshape(*colours.shape, 4)
    return np.ascontiguousarray(bytes_of[..., 2::-1])


def painted_shots(
    small: SmallPictures, ends: Mapping[tuple[str, ValueSource], Ends], style: ViewStyle
) -> list[tuple[Shot, NDArray[np.uint8]]]:
    """Return all pictures of a sample. ends : by channel and source."""
    return [(shot, shot_pixels(small, shot, ends[shot.key], style)) for shot in small.shots]


def as_png(pixels: NDArray[np.uint8]) -> bytes:
    """Return a picture as a PNG; the same pixels give the same bytes."""
    import imagecodecs  # noqa: PLC0415 (slow to import)

    return bytes(imagecodecs.png_encode(pixels, level=6))
