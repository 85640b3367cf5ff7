"""The standard error of a number, through the window."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import tifffile
from pytestqt.qtbot import QtBot

from rilievo.ui.shell.window import Window
from tests.ui.conftest import WAIT

pytestmark = pytest.mark.slow


def test_a_number_has_an_error_with_its_parts(
    measured: Window, qtbot: QtBot, settle: Callable[[], None]
) -> None:
    sample = measured.session.state.samples[0].name
    card = measured.views.origin.error
    measured.commands.measure.show_origin(sample, 1, "lipid dye", "mean")
    qtbot.waitUntil(lambda: measured.views.origin.origin is not None, timeout=WAIT)
    settle()
    card.gain.set_value(0.0)
    card.ask.click()
    qtbot.waitUntil(lambda: "gain of the camera" in card.said.text(), timeout=WAIT)
    card.gain.set_value(2.0)
    card.read.set_value(6.0)
    card.dark.set_value(100.0)
    card.ask.click()
    qtbot.waitUntil(lambda: "±" in card.said.text(), timeout=WAIT)
    assert sum(card.bar.shares) == pytest.approx(1)
    assert card.parts.text().startswith("pixels ")
    assert card.parts.text().endswith(" counts")
    assert "counts (standard error)" in card.said.text()
    origin = measured.views.origin.origin
    assert origin is not None
    # Shot noise of some 1000 pixels of some 500 counts, and what else there is.
    error = float(card.said.text().split("±")[1].split()[0])
    assert 0.2 < error < 5
    # Another number has none yet.
    measured.commands.measure.show_origin(sample, 2, "lipid dye", "mean")
    qtbot.waitUntil(lambda: measured.views.origin.origin is not origin, timeout=WAIT)
    assert card.said.text() == ""
    # Of a method that has changed since, the number has none.
    measured.session.change_class("Connected by edges", connectivity=4)
    measured.commands.measure.find_error()
    assert "measure all again" in card.said.text()


def test_the_camera_is_found_from_frames(window: Window, tmp_path: Path, qtbot: QtBot) -> None:
    rng = np.random.default_rng(2)

    def write(name: str, level: float) -> Path:
        values = 100 + (rng.poisson(level * 2.0, (80, 80)) + rng.normal(0, 6, (80, 80))) / 2.0
        tifffile.imwrite(tmp_path / name, np.rint(values).astype(np.uint16))
        return tmp_path / name

    flats = [write(f"f{k}.tif", level) for k, level in enumerate([200, 200, 800, 800, 2000, 2000])]
    darks = [write(f"d{k}.tif", 0) for k in range(2)]
    card = window.views.origin.error
    window.commands.measure.find_camera(flats, darks)
    qtbot.waitUntil(lambda: "Gain" in card.said.text(), timeout=WAIT)
    assert card.gain.value == pytest.approx(2.0, rel=0.1)
    assert card.noise is not None
    assert card.noise.dark == pytest.approx(100, abs=1)
    window.commands.measure.find_camera(flats[:3], darks)
    qtbot.waitUntil(lambda: "pairs have one level" in card.said.text(), timeout=WAIT)


def test_errors_are_columns_beside_the_numbers(
    measured: Window, qtbot: QtBot, settle: Callable[[], None]
) -> None:
    session = measured.session
    # Two samples will do.
    session.focus.set(sample_id=session.state.samples[2].id)
    session.focus.choose_also([entry.id for entry in session.state.samples[2:]])
    measured.commands.selection.remove_samples()
    settle()
    card = measured.views.origin.error
    for field, value in ((card.gain, 2.0), (card.read, 6.0), (card.dark, 100.0)):
        field.set_value(value)
    action = measured.menus.actions["measure.errors"]
    action.trigger()
    qtbot.waitUntil(lambda: session.measurements.has_errors, timeout=WAIT)
    settle()
    table = session.measurements.ordered_tables()[0]
    keys = list(table.quantities)
    assert keys[keys.index("mean") + 1] == "mean_error"
    errors = table.column("lipid dye", "mean_error")
    assert (errors > 0).all()
    assert (errors < 0.05 * table.column("lipid dye", "mean")).all()
    assert table.heading("mean_error", "lipid dye") == "± Mean (counts)"
    measured.menus.refresh()
    assert action.isChecked()
    action.trigger()
    assert "mean_error" not in session.measurements.ordered_tables()[0].quantities
