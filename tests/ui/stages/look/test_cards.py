"""The cards of Look, each by itself, in the real window."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import tifffile
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtTest import QTest
from pytestqt.qtbot import QtBot

from rilievo.ui.shell.window import Window

RNG = np.random.default_rng(9)


@pytest.fixture
def field(add: Callable[..., Window], write_tiff: Callable[..., Path]) -> Window:
    """One sample of two channels, clipped at 2000 and with a border of zeros."""
    pixels = RNG.normal(1500, 400, (2, 90, 120)).clip(1, 2000).astype(np.uint16)
    pixels[:, :4] = 0
    return add(write_tiff("field.tif", pixels, photometric="minisblack"))


@pytest.mark.slow
def test_levels_are_proposed_from_the_pixels(field: Window, settle: Callable[[], None]) -> None:
    card = field.views.look.levels
    card.set_folded(False)
    field.views.look.refresh()
    settle()
    assert card.propose_saturation.text() == "Use 2000"
    assert card.propose_empty.text() == "Use 0"
    card.propose_saturation.click()
    card.propose_empty.click()
    settle()
    plane = field.compute.store.samples[1].first
    assert (plane.saturation, plane.empty) == (2000, 0)
    assert card.propose_saturation.isHidden()
    text = field.views.look.checks.text()
    assert "saturation level 2000" in text
    assert "exact zeros" not in text


def test_checks_say_how_bad_it_is_the_worst_first(
    field: Window, settle: Callable[[], None]
) -> None:
    field.session.change("declare", field.session.state.with_overrides([1], saturation=1500.0))
    settle()
    field.views.look.refresh()
    lines = field.views.look.checks.text().split("\n\n")
    assert lines[0].startswith("▲ Changes results · ")
    ranks = [("Changes" in line, "May" in line) for line in lines]
    assert ranks == sorted(ranks, reverse=True)


@pytest.mark.slow
@pytest.mark.parametrize(
    ("kind", "expected"),
    [
        ("difference", lambda a, b: a - b),
        ("ratio", lambda a, b: np.where(b == 0, np.nan, a / np.where(b == 0, 1, b))),
        ("mean", lambda a, b: (a + b) / 2),
        ("largest", np.maximum),
    ],
)
def test_every_kind_of_derived_channel(
    field: Window, settle: Callable[[], None], kind: str, expected: Callable
) -> None:
    card = field.views.look.channels
    card.set_folded(False)
    card.start.setCurrentIndex(card.start.findData(kind))
    card.begin()
    card.name.setText("new one")
    card.finish()
    settle()
    sample = field.compute.store.samples[1]
    first, second = (plane.pixels.astype(float) for plane in list(sample.channels.values())[:2])
    np.testing.assert_allclose(
        sample.channels["new one"].pixels, expected(first, second), rtol=1e-6
    )
    field.session.undo_stack.undo()
    settle()
    assert "new one" not in field.compute.store.samples[1].channels


def test_contour_levels_are_typed(field: Window, settle: Callable[[], None]) -> None:
    card = field.views.look.display
    card.contours.setChecked(True)
    settle()
    card.levels.enter("900; 1200 1500")
    settle()
    assert field.compute.ranges.style(field.session.focus.channel or "").contour_levels == (
        900,
        1200,
        1500,
    )
    assert field.views.area.key.contours == (900, 1200, 1500)
    card.levels.enter("900; many")
    assert card.levels.property("wrong")
    assert field.compute.ranges.style(field.session.focus.channel or "").contour_levels == (
        900,
        1200,
        1500,
    )
    card.light.enter("-45")
    assert field.compute.ranges.style(field.session.focus.channel or "").light == 315


def test_quantities_of_the_statistics_are_chosen_and_kept(
    field: Window, settle: Callable[[], None], qtbot: QtBot
) -> None:
    card = field.views.look.statistics
    card.set_folded(False)
    ticks = {action.text(): action for action in card.choose.menu().actions()}
    ticks["Entropy"].trigger()
    ticks["Mean"].trigger()
    settle()
    assert "Entropy" in card.text.text()
    assert ">Mean<" not in card.text.text()
    again = Window()
    qtbot.addWidget(again)
    again.commands.study.asks_before_leaving = False
    assert "entropy" in again.views.look.statistics.keys
    again.close()


def test_cards_stay_folded(field: Window, qtbot: QtBot) -> None:
    card = field.views.look.display
    QTest.mouseClick(card.title_widget, Qt.MouseButton.LeftButton)
    assert card.folded
    again = Window()
    qtbot.addWidget(again)
    again.commands.study.asks_before_leaving = False
    assert again.views.look.display.folded
    again.close()


def test_further_images_of_a_file_are_offered(
    window: Window, tmp_path: Path, settle: Callable[[], None], qtbot: QtBot
) -> None:
    path = tmp_path / "two.tif"
    small = RNG.integers(0, 99, (7, 9)).astype(np.uint16)
    with tifffile.TiffWriter(path) as writer:
        writer.write(RNG.integers(0, 99, (20, 30)).astype(np.uint16), metadata=None)
        writer.write(small, metadata=None)
    window.commands.images.open_any([path], ask=True)
    qtbot.waitUntil(lambda: window.jobs.idle and window.views.intake.isVisible())
    assert [len(window.views.intake.proposals), len(window.views.intake.taken())] == [2, 1]
    item = window.views.intake.table.item(1, 0)
    assert item is not None
    item.setCheckState(Qt.CheckState.Checked)
    window.views.intake.accept()
    settle()
    second = window.session.state.samples[1]
    np.testing.assert_array_equal(window.compute.store.samples[second.id].first.pixels, small)


def test_the_picture_is_copied_as_seen(field: Window, settle: Callable[[], None]) -> None:
    field.session.view.choose(on_pictures=frozenset())
    field.commands.readings.copy_picture()
    settle()
    clipboard = QGuiApplication.clipboard()
    assert clipboard is not None
    assert clipboard.image().width() == field.views.area.picture.width()


def test_a_sample_by_itself_is_told_why_it_has_no_other_planes(field: Window) -> None:
    card = field.views.look.channels
    card.start.setCurrentIndex(card.start.findData("projection"))
    card.new_button.click()
    assert "no plane of a stack" in card.message.text()
