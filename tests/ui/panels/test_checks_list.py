"""Checks gathered, looked at and marked as seen, through the window."""

from __future__ import annotations

from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from pytestqt.qtbot import QtBot

from rilievo.ui.shell.window import Window
from tests.ui.opening import open_study


@pytest.fixture
def listed(study: Window, qtbot: QtBot) -> Window:
    qtbot.waitUntil(lambda: bool(study.compute.checks.gathered()))
    study.views.status.checks.click()
    return study


def test_the_button_lists_each_kind_once(listed: Window, qtbot: QtBot) -> None:
    panel = listed.views.drawer.checks
    assert panel.isVisible()
    lines = listed.compute.checks.gathered()
    assert panel.list.topLevelItemCount() == len(lines) > 0
    assert sum(len(line.checks) for line in lines) == len(listed.compute.checks.all())
    assert len({(line.kind, line.channel) for line in lines}) == len(lines)
    # A line leads to its sample.
    item = next(t for t in panel._tops() if t.childCount())
    child = item.child(item.childCount() - 1)
    assert child is not None
    panel.list.itemClicked.emit(child, 2)
    entry = listed.session.focus.entry
    assert entry is not None and child.text(2).startswith(entry.name)


def test_what_was_seen_is_not_counted_and_remembered(
    listed: Window, lipid: Path, qtbot: QtBot
) -> None:
    panel, strip = listed.views.drawer.checks, listed.views.drawer.strip
    qtbot.waitUntil(lambda: bool(strip._telling))
    before = int(listed.views.status.checks.text().split()[1])
    item = panel._tops()[0]
    item.setCheckState(0, Qt.CheckState.Checked)
    names = listed.compute.checks.gathered()[0].names
    assert names <= listed.compute.checks.seen
    qtbot.waitUntil(lambda: listed.views.status.checks.text() != f"▲ {before} checks")
    assert panel._tops()[0].checkState(0) == Qt.CheckState.Checked
    # Opened again, it is still known.
    listed.session.clear()
    assert not listed.compute.checks.seen
    open_study(listed, lipid)
    qtbot.waitUntil(lambda: names <= listed.compute.checks.seen)
    # Taken back.
    listed.compute.checks.mark_seen(names, False)
    assert not names & listed.compute.checks.seen


def test_what_was_seen_stays_when_the_study_is_saved_under_another_name(
    listed: Window, tmp_path: Path
) -> None:
    session, checks = listed.session, listed.compute.checks
    first, second = tmp_path / "first.rilievo", tmp_path / "second.rilievo"
    session.save(first)
    names = frozenset({("field 1", "flat", "")})
    checks.mark_seen(names, True)
    session.save(second)
    assert names <= checks.seen
    session.clear()
    assert not checks.seen
    for path in (first, second):
        session.load(path)
        assert names <= checks.seen


def test_what_was_seen_in_a_study_without_a_file_is_not_seen_in_the_next(listed: Window) -> None:
    listed.session.clear()
    listed.compute.checks.mark_seen({("field 1", "flat", "")}, True)
    listed.session.clear()
    assert not listed.compute.checks.seen


def test_tiles_bear_a_mark_only_for_what_is_not_seen(listed: Window, qtbot: QtBot) -> None:
    strip, checks = listed.views.drawer.strip, listed.compute.checks
    qtbot.waitUntil(lambda: bool(strip._telling))
    assert 0 < len(strip._telling) < 12
    checks.mark_seen({name for line in checks.gathered() for name in line.names}, True)
    qtbot.waitUntil(lambda: not strip._telling)
    assert listed.views.status.checks.text() == "checks"
