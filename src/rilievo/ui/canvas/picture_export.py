"""The picture as it is seen, as a file: PNG, TIFF, or SVG with outlines as vectors.

Every such file says in its own metadata that it is for illustration, and how it was shown.
"""

from __future__ import annotations

import io
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from PyQt6.QtCore import QBuffer, QByteArray, QIODevice, QPointF, QRectF, QSize
from PyQt6.QtGui import QColor, QImage, QPainter, QPen, QPolygonF
from PyQt6.QtSvg import QSvgGenerator

from rilievo.core.atomic_write import write_bytes_safely
from rilievo.core.errors import FileUnreadable
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.regions import RegionSet
from rilievo.core.regions.contours import region_outlines
from rilievo.core.view.palettes import colour_table
from rilievo.core.view.render import Looks
from rilievo.core.wording.numbers import rounded, shown
from rilievo.ui.canvas.canvas_geometry import Geometry
from rilievo.ui.canvas.overlays import paint_label, paint_scale_bar
from rilievo.ui.compute.scene import Scene
from rilievo.ui.theme.style import text_font

PICTURE_SUFFIXES = (".png", ".tif", ".tiff", ".svg")
WARNING = "For illustration, not for measurement."
_KEY_WIDTH, _KEY_MARGIN = 96, 16
_MOST_OUTLINES = 20_000


@dataclass(frozen=True, eq=False)
class PictureOrder:
    """What is drawn into the file.

    regions : outlined as vectors, when they are shown. extras : scale bar, key, names.
    """

    scene: Scene
    geometry: Geometry
    looks: Looks
    regions: RegionSet | None
    scale_bar: bool = True
    key: bool = True
    labels: bool = True
    title: str = ""

    @property
    def description(self) -> str:
        """What the file says of itself."""
        scene = self.scene
        low, high = scene.display
        source = "as in the file" if scene.method is None else "corrected"
        style = ", ".join(
            f"{key} {value}" for key, value in scene.style.model_dump(exclude_defaults=True).items()
        )
        return (
            f"{WARNING} {self.title}, channel {scene.channel}, {source}. Display range "
            f"{low:.9g} to {high:.9g}; view: {style or 'linear, gray'}; "
            f"{self.geometry.view.zoom:.6g} screen pixels per image pixel."
        )


def _size(order: PictureOrder) -> QSize:
    view = order.geometry.view
    extra = round(_KEY_WIDTH * order.geometry.ratio) if order.key else 0
    return QSize(view.width + extra, view.height)


def _paint(painter: QPainter, order: PictureOrder, cache: AnalysisCache) -> None:
    """Draw picture, outlines, scale bar, key and name in device pixels."""
    geometry = order.geometry
    bare = order.scene.without_outlines() if order.regions is not None else order.scene
    painter.drawImage(0, 0, bare.painted(cache, geometry.view, order.looks))
    painter.save()
    painter.scale(geometry.ratio, geometry.ratio)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setClipRect(QRectF(0, 0, *geometry.size))
    if order.regions is not None:
        _paint_outlines(painter, geometry, order.regions, order.looks)
    if order.scale_bar:
        method, scene = order.scene.method, order.scene
        plane = scene.sample.channels[scene.channel]
        if method is not None:
            plane = Analysis(scene.sample, method, cache).aligned_geometry(scene.channel)
        paint_scale_bar(painter, geometry, plane.calibration)
    if order.labels:
        painter.setFont(text_font(12))
        paint_label(painter, QPointF(16, 26), f"{order.title} · {order.scene.channel}")
    painter.setClipping(False)
    if order.key:
        _paint_key(painter, order)
    painter.restore()


def _paint_outlines(
    painter: QPainter, geometry: Geometry, regions: RegionSet, looks: Looks
) -> None:
    ids, _ = geometry.boxes_of(regions)
    seen = np.isin(regions.ids, ids[:_MOST_OUTLINES])
    found = region_outlines(regions.labels, regions.boxes[seen], regions.ids[seen])
    polygons = [
        QPolygonF([geometry.to_widget(x, y) for x, y in polygon])
        for outlines in found.values()
        for polygon in outlines
    ]
    for colour, width in ((looks.halo, 3.0), (looks.line, 1.2)):
        painter.setPen(QPen(QColor(*colour), width))
        for polygon in polygons:
            painter.drawPolygon(polygon)


def _paint_key(painter: QPainter, order: PictureOrder) -> None:
    width, height = order.geometry.size
    painter.fillRect(QRectF(width, 0, _KEY_WIDTH, height), QColor(255, 255, 255))
    bar = QRectF(width + 12, _KEY_MARGIN, 14, height - 2 * _KEY_MARGIN)
    if order.scene.layers:
        return
    colours = colour_table(order.scene.style, equal=order.scene.equal)
    steps = max(int(bar.height()), 2)
    for i in range(steps):
        colour = QColor.fromRgb(
            int(colours[round(i / (steps - 1) * (len(colours) - 1))]) & 0xFFFFFF
        )
        painter.fillRect(QRectF(bar.left(), bar.bottom() - i - 1, bar.width(), 1.2), colour)
    painter.setPen(QColor(38, 48, 46))
    painter.setFont(text_font(12))
    low, high = order.scene.display
    for k in range(5):
        value = low + (high - low) * k / 4
        y = bar.bottom() - bar.height() * k / 4
        painter.drawLine(QPointF(bar.right(), y), QPointF(bar.right() + 4, y))
        painter.drawText(QPointF(bar.right() + 7, y + 4), shown(rounded(value, high - low)))


def drawn(order: PictureOrder, cache: AnalysisCache) -> QImage:
    """Return the picture with what is wanted on it."""
    image = QImage(_size(order), QImage.Format.Format_RGB32)
    image.fill(QColor(255, 255, 255))
    painter = QPainter(image)
    _paint(painter, order, cache)
    painter.end()
    image.setText("Description", order.description)
    image.setText("Software", "Rilievo")
    return image


def save_picture(order: PictureOrder, path: Path, cache: AnalysisCache) -> None:
    """Write the picture by the name's ending. Raises FileUnreadable."""
    suffix = path.suffix.lower()
    if suffix == ".svg":
        write_bytes_safely(path, _svg(order, cache))
    elif suffix in (".tif", ".tiff"):
        write_bytes_safely(path, _tiff(order, cache))
    elif suffix == ".png":
        write_bytes_safely(path, _png(drawn(order, cache)))
    else:
        raise FileUnreadable(
            path, "has an ending that is no picture's", "end it in .png, .tif or .svg"
        )


def _png(image: QImage) -> bytes:
    buffer = QBuffer()
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    image.save(buffer, "PNG")
    return buffer.data().data()


def _tiff(order: PictureOrder, cache: AnalysisCache) -> bytes:
    import tifffile  # noqa: PLC0415 (slow to import)

    image = drawn(order, cache)
    bits: Any = image.constBits()
    pixels = np.frombuffer(bits.asstring(image.sizeInBytes()), np.uint8)
    pixels = pixels.reshape(image.height(), image.bytesPerLine() // 4, 4)[:, : image.width()]
    held = io.BytesIO()
    # Blue, green, red, unused in memory; red, green, blue in the file.
    tifffile.imwrite(
        held,
        np.ascontiguousarray(pixels[..., 2::-1]),
        photometric="rgb",
        compression="zlib",
        # Tags hold seven-bit text.
        description=order.description.encode("ascii", "replace").decode(),
        software="Rilievo",
        metadata=None,
    )
    return held.getvalue()


def _svg(order: PictureOrder, cache: AnalysisCache) -> bytes:
    content = QByteArray()
    buffer = QBuffer(content)
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    generator = QSvgGenerator()
    generator.setOutputDevice(buffer)
    size = _size(order)
    generator.setSize(size)
    generator.setViewBox(QRectF(0, 0, size.width(), size.height()))
    generator.setTitle(order.title)
    generator.setDescription(order.description)
    painter = QPainter(generator)
    _paint(painter, order, cache)
    painter.end()
    return content.data()
