"""Blinding through the window: nothing tells the samples apart until they are unblinded."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from PyQt6.QtWidgets import QLabel, QWidget

from rilievo.core.study.sealed_study import HIDDEN
from rilievo.ui.shell.window import Window

pytestmark = pytest.mark.slow
Settle = Callable[[], None]
TELLING = ("replete", "low-nitrogen", "starved", "day 1", "day 2", ".ome.tif")


def texts(window: Window) -> str:
    """All that labels and accessible names say."""
    found = [label.text() for label in window.findChildren(QLabel) if label.isVisible()]
    found += [w.accessibleDescription() for w in window.findChildren(QWidget) if w.isVisible()]
    return "\n".join(found)


def test_a_blinded_study_tells_nothing_and_comes_back(
    measured: Window, settle: Settle, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    session = measured.session
    before = session.state.samples
    numbers = {k: table.ids.size for k, table in session.measurements.tables.items()}
    measured.menus.actions["sample.blind"].trigger()
    settle()
    assert session.is_blind
    assert not session.undo_stack.canUndo()
    assert session.focus.entry == session.state.samples[0]
    for stage in ("look", "correct", "outline", "measure", "compare"):
        session.go_to(stage)
        settle()
        said = texts(measured)
        assert not [word for word in TELLING if word in said], stage
    assert "blinded" in said
    assert not measured.views.compare.comparisons
    # What was measured stays, under codes and without anything of the files.
    assert not session.measurements.is_stale
    tables = session.measurements.ordered_tables()
    assert {t.sample for t in tables} == {e.name for e in session.state.samples}
    assert all(t.file == t.sample and not t.attributes and not t.group for t in tables)
    measured.menus.actions["read.metadata"].trigger()
    settle()
    assert measured.views.metadata.about.text() == HIDDEN
    for key in ("sample.by_name", "sample.by_folder", "sample.set_group", "sample.blind"):
        assert not measured.menus.actions[key].isEnabled()
    measured.commands.report.ask_folder()
    assert "blinded" in measured.views.notice.text
    # An edit made blind belongs to the same sample afterwards.
    session.go_to("outline")
    entry = session.focus.entry
    assert entry is not None
    settle()
    session.focus.set(regions={1})
    measured.commands.region_editor.by_hand.edit_selected("reject")
    settle()
    assert session.state.method.exception_for(entry.name).edits
    session.save(tmp_path / "blind.rilievo")
    session.load(tmp_path / "blind.rilievo")
    settle()
    assert session.is_blind
    monkeypatch.setattr(measured.commands.context.dialogs, "ask_unblinding", lambda: False)
    measured.menus.actions["sample.unblind"].trigger()
    assert session.is_blind
    monkeypatch.setattr(measured.commands.context.dialogs, "ask_unblinding", lambda: True)
    measured.menus.actions["sample.unblind"].trigger()
    settle()
    assert [(e.id, e.name, e.group) for e in session.state.samples] == [
        (e.id, e.name, e.group) for e in before
    ]
    real = next(e.name for e in session.state.samples if e.id == entry.id)
    assert session.state.method.exception_for(real).edits
    said = [one.text for one in session.history()]
    assert said[-1] == "Unblind the study"
    assert "Blind the study" in said
    assert len(numbers) == len(before)
