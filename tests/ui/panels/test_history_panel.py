"""The history, the library and the comparison of methods through the window."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pandas
import pytest
from PyQt6.QtCore import Qt
from pytestqt.qtbot import QtBot

from rilievo.core.method.method import Method, step_use
from rilievo.ui.shell.window import Window
from tests.ui.conftest import WAIT
from tests.ui.opening import open_study

pytestmark = pytest.mark.slow


@pytest.fixture
def correct(study: Window, settle: Callable[[], None]) -> Window:
    study.session.go_to("correct")
    study.views.correct.add_step("background.mesh")
    study.views.correct.add_step("smooth.gaussian")
    study.pages.show_history()
    settle()
    return study


def lines(window: Window) -> list[str]:
    tree = window.views.drawer.history.tree
    items = [tree.topLevelItem(row) for row in range(tree.topLevelItemCount())]
    return [item.text(1) for item in items if item is not None]


def choose(window: Window, row: int) -> None:
    tree = window.views.drawer.history.tree
    tree.setCurrentItem(tree.topLevelItem(row))


def test_one_goes_back_to_any_change_and_forth_again(
    correct: Window, settle: Callable[[], None]
) -> None:
    assert lines(correct) == ["Add gaussian smoothing  ·  now", "Add background mesh"]
    choose(correct, 1)
    correct.views.drawer.history.back.click()
    settle()
    assert [use.id for use in correct.session.state.method.steps] == ["background", "mesh"]
    assert lines(correct) == ["Add gaussian smoothing", "Add background mesh  ·  now"]
    choose(correct, 0)
    correct.views.drawer.history.back.click()
    settle()
    assert len(correct.session.state.method.steps) == 3
    assert not correct.views.drawer.history.back.isEnabled()


def test_the_history_outlives_the_session_and_is_saved(
    correct: Window, settle: Callable[[], None], tmp_path: Path, qtbot: QtBot
) -> None:
    correct.commands.study.save_to(tmp_path / "s.rilievo")
    open_study(correct, tmp_path / "s.rilievo")
    settle()
    correct.pages.show_history()
    assert lines(correct) == ["Add gaussian smoothing  ·  now", "Add background mesh"]
    assert not correct.session.undo_stack.canUndo()
    choose(correct, 1)
    correct.views.drawer.history.back.click()
    settle()
    assert [use.id for use in correct.session.state.method.steps] == ["background", "mesh"]
    assert lines(correct)[0] == "Go back to: Add background mesh  ·  now"
    correct.session.undo_stack.undo()
    assert len(correct.session.state.method.steps) == 3
    correct.commands.correct.save_history(tmp_path / "history.csv")
    qtbot.waitUntil(lambda: correct.jobs.idle, timeout=WAIT)
    saved = pandas.read_csv(tmp_path / "history.csv")
    assert saved["change"].unique().tolist() == ["Add background mesh", "Add gaussian smoothing"]
    tile = saved[saved["what"] == "Tile side"].iloc[0]
    assert tile["after"] == "automatic"


def test_only_what_concerns_the_focused_sample(correct: Window, settle: Callable[[], None]) -> None:
    other = correct.session.state.samples[1]
    correct.session.focus.set(sample_id=other.id)
    correct.views.correct.open_card("mesh")
    settle()
    card = correct.views.correct.cards["mesh"]
    card.scope.button("one").click()
    card.form.fields["tile"].field.enter("32")
    settle()
    panel = correct.views.drawer.history
    panel.here.setChecked(True)
    assert len(lines(correct)) == 3
    correct.session.focus.set(sample_id=correct.session.state.samples[0].id)
    assert len(lines(correct)) == 2
    panel.here.setChecked(False)
    item = panel.tree.topLevelItem(0)
    assert item is not None
    assert item.text(2) == other.name
    assert item.text(3).endswith("tile side: automatic, as all → 32 px")


def texts(window: Window) -> set[tuple[str, str, str]]:
    tree = window.views.methods.tree
    found = set()
    for row in range(tree.topLevelItemCount()):
        part = tree.topLevelItem(row)
        assert part is not None
        for k in range(part.childCount()):
            child = part.child(k)
            assert child is not None
            found.add((f"{part.text(0)} {child.text(0)}", child.text(1), child.text(2)))
    return found


def test_a_method_is_kept_compared_used_and_removed(
    correct: Window, settle: Callable[[], None]
) -> None:
    view = correct.views.methods
    correct.views.correct.library_button.click()
    assert view.isVisible()
    view.name.setText("My mesh")
    view.keep_button.click()
    settle()
    assert "Nothing differs" not in view.about.text()  # exceptions stay with the study
    correct.views.correct.editor.change("gaussian", "remove")
    settle()
    assert ("Gaussian smoothing Sigma", "–", "1 px") in texts(correct)
    some = len(texts(correct))
    view.only.setChecked(False)
    assert len(texts(correct)) > some
    view.use_button.click()
    settle()
    assert [use.step for use in correct.session.state.method.steps][-1] == "smooth.gaussian"
    assert not view.isVisible()
    correct.pages.show_methods()
    view.choose("My mesh")
    view.remove_button.click()
    assert not view.list.findItems("My mesh", Qt.MatchFlag.MatchExactly)
    view.choose("Star field")
    assert not view.remove_button.isEnabled()
    assert ("Dark frame The step", "not in it", "in it") in texts(correct)


def test_names_and_files_that_cannot_be_are_said_in_place(
    correct: Window, tmp_path: Path, settle: Callable[[], None]
) -> None:
    correct.pages.show_methods()
    view = correct.views.methods
    view.name.setText("a/b")
    view.keep()
    assert "A name needs" in view.say.text()
    (tmp_path / "no.json").write_text("{}")
    view.add_file(tmp_path / "no.json")
    assert "no.json" in view.say.text()
    Method(steps=(step_use("l", "curve.log"),)).save(tmp_path / "log.json")
    view.add_file(tmp_path / "log.json")
    assert not view.say.isVisible()
    assert ("Logarithm The step", "not in it", "in it") in texts(correct)


def test_a_report_is_written_from_the_window(correct: Window, tmp_path: Path, qtbot: QtBot) -> None:
    correct.report_runner.save(tmp_path / "report")
    # Twelve samples of two channels, each with a background that finds its objects.
    qtbot.waitUntil(lambda: correct.jobs.idle, timeout=WAIT)
    assert "Add background mesh" in (tmp_path / "report" / "report.html").read_text()
    assert {path.name for path in (tmp_path / "report").iterdir()} >= {
        "history.csv", "regions.csv", "method.json",
    }  # fmt: skip


def test_the_memory_for_results_is_set_and_remembered(correct: Window) -> None:
    before = correct.compute.cache.budget
    correct.menus.actions["method.memory_1000000000"].trigger()
    assert correct.compute.cache.budget == 1_000_000_000
    assert correct.menus.actions["method.memory_1000000000"].isChecked()
    correct.commands.correct.set_budget(before)
