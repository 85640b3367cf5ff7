"""The standard error of one number, with its parts as a small bar, and the camera that makes it."""

from __future__ import annotations

import math

from PyQt6.QtCore import QRectF, QSettings, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QLabel, QPushButton, QSizePolicy, QWidget

from rilievo.core.compare.wording import with_error
from rilievo.core.image.camera_noise import CameraNoise
from rilievo.ui.theme.roles import Theme
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import Card, NumberField, faint, side_by_side

_PARTS = (("pixels", "water"), ("background", "accent"), ("finding the region", "faint"))


class ErrorCard(Card):
    """Asks for the camera's noise, and shows what it makes of a number."""

    wanted = pyqtSignal()
    frames_wanted = pyqtSignal()

    def __init__(self, theme: Theme) -> None:
        super().__init__("Standard error", fold="origin error")
        self.gain, self.read, self.dark = NumberField(), NumberField(), NumberField()
        for name, field in (
            ("Gain (e⁻ per count)", self.gain),
            ("Read noise (e⁻)", self.read),
            ("Dark level (counts)", self.dark),
        ):
            self.add_row(name, field)
            field.entered.connect(lambda _: self._keep())
        self.ask = QPushButton("Find the error")
        self.ask.setToolTip("Draws the picture anew with the noise of the camera, and measures it")
        self.ask.clicked.connect(self.wanted)
        self.frames = QPushButton("From frames …")
        self.frames.setToolTip("Gain and read noise from pairs of flats and darks")
        self.frames.clicked.connect(self.frames_wanted)
        self.add(side_by_side(self.ask, self.frames, stretch=True))
        self.said = QLabel("")
        self.said.setWordWrap(True)
        self.said.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.bar = PartsBar(theme)
        self.parts = faint()
        for widget in (self.said, self.bar, self.parts):
            self.add(widget)
        kept = QSettings()
        for field, key in self._kept():
            value = kept.value(key)
            try:
                field.set_value(float(str(value)) if value is not None else 0.0)
            except ValueError:
                field.set_value(0.0)
        self.clear()

    def _kept(self) -> tuple[tuple[NumberField, str], ...]:
        return ((self.gain, "camera gain"), (self.read, "camera read noise"),
                (self.dark, "camera dark level"))  # fmt: skip

    def _keep(self) -> None:
        for field, key in self._kept():
            QSettings().setValue(key, field.value or 0.0)

    @property
    def noise(self) -> CameraNoise | None:
        """The camera's noise as it was typed; None where the file is to say it."""
        gain = self.gain.value or 0.0
        if not gain > 0:
            return None
        return CameraNoise(gain, self.read.value or 0.0, self.dark.value or 0.0)

    def take_noise(self, noise: CameraNoise, said: str) -> None:
        """Take the noise that was found from frames."""
        for field, value in (
            (self.gain, noise.gain), (self.read, noise.read_noise), (self.dark, noise.dark),
        ):  # fmt: skip
            field.set_value(float(f"{value:.5g}"))
        self._keep()
        self.clear()
        self.say(said)

    def clear(self) -> None:
        """Show no error: it is of another number."""
        self.say("")
        self.bar.show_parts(())
        self.parts.setVisible(False)

    def say(self, text: str) -> None:
        """Say what was found, or why nothing was."""
        self.said.setText(text)
        self.said.setVisible(bool(text))

    def show_error(
        self, value: float, total: float, parts: tuple[float, float, float], unit: str = ""
    ) -> None:
        """Show a number with its standard error, and its parts: pixels, background, finding."""
        if not math.isfinite(total):
            self.say("The error is not known: the region is not found again in other pictures.")
            return
        of_unit = f" {unit}" if unit else ""
        self.say(f"{with_error(value, total)}{of_unit} (standard error)")
        known = [part if math.isfinite(part) else 0.0 for part in parts]
        apart = math.isfinite(parts[0])
        self.bar.show_parts(known if apart else ())
        names = [name for name, _ in _PARTS]
        if apart:
            each = [f"{name} {part:.2g}" for name, part in zip(names, known, strict=True)]
            self.parts.setText(f"{', '.join(each)}{of_unit}")
        else:
            self.parts.setText(
                "Its parts cannot be told apart: a step mixes neighbouring pixels, or the channel "
                "is made of others."
            )
        self.parts.setVisible(True)


class PartsBar(QWidget):
    """Shares of a variance, side by side."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self.shares: list[float] = []
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Parts of the error")

    def sizeHint(self) -> QSize:
        return QSize(200, scaled(12))

    def show_parts(self, parts: tuple[float, ...] | list[float]) -> None:
        """Show standard errors as shares of the variance; nothing for none."""
        total = sum(part**2 for part in parts)
        self.shares = [part**2 / total for part in parts] if total > 0 else []
        self.setVisible(bool(self.shares))
        said = (f"{name} {100 * share:.0f} %" for (name, _), share in
                zip(_PARTS, self.shares, strict=False))  # fmt: skip
        self.setAccessibleDescription(", ".join(said))
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        left = 0.0
        for (_, role), share in zip(_PARTS, self.shares, strict=False):
            width = share * self.width()
            painter.fillRect(QRectF(left, 0, max(width - 1, 0), self.height()),
                             self._theme.colour(role))  # fmt: skip
            left += width
