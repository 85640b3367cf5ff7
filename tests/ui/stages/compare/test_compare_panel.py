"""Compare through the window: questions, plots, tests, normalising, lasso, the batch's checks."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QGuiApplication
from pytestqt.qtbot import QtBot

from rilievo.core.compare import Normalising
from rilievo.core.compare.plots import PLOTS
from rilievo.core.compare.wording import sentences
from rilievo.demo.sets import write_demo_study
from rilievo.ui.shell.window import Window
from tests.ui.conftest import WAIT, choose
from tests.ui.opening import open_study

pytestmark = pytest.mark.slow

Settle = Callable[[], None]


@pytest.fixture
def comparing(measured: Window, qtbot: QtBot) -> Window:
    measured.session.go_to("compare")
    qtbot.waitUntil(lambda: measured.views.comparison.plot.is_drawn, timeout=WAIT)
    return measured


def clipboard() -> str:
    board = QGuiApplication.clipboard()
    assert board is not None
    return board.text()


def test_the_question_is_kept_in_the_study_and_undone(
    comparing: Window, settle: Settle, tmp_path: Path
) -> None:
    panel = comparing.views.compare
    choose(panel.what.quantities[0], "area")
    settle()
    panel.shown.kind.button("box").click()
    settle()
    assert panel.comparison is not None
    assert (panel.comparison.quantity, panel.question.shown_as) == ("area", "box")
    assert comparing.session.undo_stack.undoText() == "Show as box"
    comparing.session.save(tmp_path / "s.rilievo")
    comparing.session.clear()
    comparing.session.load(tmp_path / "s.rilievo")
    assert comparing.session.state.question.quantities == ("area",)
    assert comparing.session.state.question.shown_as == "box"


def test_several_quantities_stand_side_by_side(comparing: Window, settle: Settle) -> None:
    panel = comparing.views.compare
    panel.what.more.click()
    settle()
    assert len(panel.comparisons) == 2
    choose(panel.what.quantities[1], "area")
    settle()
    assert [c.quantity for c in panel.comparisons] == ["mean", "area"]
    table = comparing.views.drawer.groups
    assert table.rowCount() == 2 * (1 + 3)
    assert table.item(4, 0).text() == "lipid dye, area per cell (px²)"
    assert {dot.value for dot in comparing.views.comparison.plot.dots if dot.region == 0} == {
        p.value for c in panel.comparisons for p in c.all_points
    }


@pytest.mark.parametrize("kind", [kind for kind in PLOTS if kind not in ("dots", "series")])
def test_every_kind_of_plot_is_drawn_and_saved(
    comparing: Window, settle: Settle, kind: str, tmp_path: Path, qtbot: QtBot
) -> None:
    plot = comparing.views.comparison.plot
    before = plot.grab().toImage()
    comparing.views.compare.shown.kind.button(kind).click()
    settle()
    assert plot.is_drawn
    assert plot.grab().toImage() != before
    for suffix, magic in ((".pdf", b"%PDF"), (".png", b"\x89PNG"), (".svg", b"<?xml")):
        path = tmp_path / f"plot{suffix}"
        comparing.commands.compare.save_plot(path)
        qtbot.waitUntil(path.exists, timeout=WAIT)
        assert path.read_bytes().startswith(magic)


def test_channels_are_paired_by_sample(comparing: Window, settle: Settle) -> None:
    panel = comparing.views.compare
    choose(panel.what.by, "channel")
    settle()
    choose(panel.what.pairs, "sample")
    settle()
    panel.shown.kind.button("pairs").click()
    settle()
    assert panel.comparison is not None
    (versus,) = panel.comparison.versus
    assert versus.paired
    assert versus.n == (12, 12)
    assert comparing.views.drawer.tests.item(0, 1).text() == "12 pairs"
    # Nothing can be paired by sample once groups are compared again.
    choose(panel.what.by, "group")
    settle()
    assert panel.question.pairs == ""


def test_why_a_sample_is_the_unit_is_said_where_it_is_chosen(
    comparing: Window, settle: Settle
) -> None:
    panel = comparing.views.compare
    assert "not independent" in panel.what.why.text()
    assert panel.what.why.property("role") == "faint"
    choose(panel.what.unit, "region")
    settle()
    assert "p is too small" in panel.what.why.text()
    assert panel.what.why.property("role") == "check"
    assert (
        comparing.views.drawer.groups.item(0, 1).text()
        == comparing.views.drawer.groups.item(0, 2).text()
    )


def test_tests_and_their_assumptions(comparing: Window, settle: Settle) -> None:
    panel = comparing.views.compare
    tests = comparing.views.drawer.tests
    assert tests.rowCount() == 3
    assert "Welch's t(" in tests.item(1, 4).text()
    assert "Brown–Forsythe" in panel.tests.said.text()
    choose(panel.tests.against, "starved")
    settle()
    assert [tests.item(r, 0).text() for r in (1, 2)] == [
        "replete − starved", "low-nitrogen − starved",
    ]  # fmt: skip
    choose(panel.tests.test, "ranks")
    settle()
    assert "Mann–Whitney" in tests.item(1, 4).text()
    assert "Ranks need no normal distribution" in panel.tests.said.text()
    panel.tests.every.click()
    settle()
    assert tests.rowCount() == 1 + 3
    p = [v.test.p for v in panel.comparison.versus]  # type: ignore[union-attr]
    choose(panel.tests.correction, "none")
    settle()
    assert [v.corrected for v in panel.comparison.versus] == p  # type: ignore[union-attr]


def test_normalised_values_with_the_measured_ones_a_click_away(
    comparing: Window, settle: Settle
) -> None:
    panel, view = comparing.views.compare, comparing.views.comparison
    assert view.measured_button.isHidden()
    raw = [s.mean for s in panel.comparison.statistics]  # type: ignore[union-attr]
    panel.normalise.set_folded(False)
    choose(panel.normalise.by, "control")
    settle()
    choose(panel.normalise.reference, "replete")
    settle()
    assert panel.question.normalising == Normalising(by="control", reference="replete")
    means = [s.mean for s in panel.comparison.statistics]  # type: ignore[union-attr]
    np.testing.assert_allclose(means, np.array(raw) / raw[0])
    assert view.measured_button.text() == "Show as measured"
    view.measured_button.click()
    settle()
    assert [s.mean for s in panel.comparison.statistics] == raw  # type: ignore[union-attr]
    assert view.measured_button.text() == "Show normalised"
    view.measured_button.click()
    settle()
    assert panel.comparison.statistics[0].mean == pytest.approx(1)  # type: ignore[union-attr]


def test_a_lasso_chooses_regions_or_samples(
    comparing: Window, settle: Settle, qtbot: QtBot
) -> None:
    plot = comparing.views.comparison.plot
    dots = [dot for dot in plot.dots if dot.region]
    wanted = {(dot.sample, dot.region) for dot in dots if dot.value > 1100}
    assert len(wanted) > 3
    low = max(p[1] for p, dot in zip(plot.positions, plot.dots, strict=True) if dot.value > 1100)
    high = min(p[1] for p, dot in zip(plot.positions, plot.dots, strict=True) if dot.value <= 1100)
    edge = round((low + high) / 2)
    # Dragged with the button held, around everything above.
    corners = [QPoint(2, 2), QPoint(2, edge), QPoint(plot.width() - 3, edge),
               QPoint(plot.width() - 3, 2)]  # fmt: skip
    qtbot.mousePress(plot, Qt.MouseButton.LeftButton, pos=corners[0])
    for corner in corners[1:]:
        qtbot.mouseMove(plot, corner)
    qtbot.mouseRelease(plot, Qt.MouseButton.LeftButton, pos=corners[-1])
    chosen = comparing.session.focus.chosen_by_name()
    assert {(name, region) for name, own in chosen.items() for region in own} == wanted
    # A click beside everything chooses nothing.
    qtbot.mouseClick(plot, Qt.MouseButton.LeftButton, pos=QPoint(3, 3))
    assert comparing.session.focus.chosen_by_name() == {}
    # Where only samples are drawn, these are chosen.
    comparing.views.compare.shown.kind.button("box").click()
    settle()
    whole = [QPointF(0, 0), QPointF(0, 2000), QPointF(2000, 2000), QPointF(2000, 0)]
    plot.choose_inside(whole)
    assert len(comparing.session.focus.chosen) == 12


def test_what_stands_apart_leads_to_its_picture(comparing: Window) -> None:
    outliers = comparing.views.compare.comparison.outliers  # type: ignore[union-attr]
    one = next(o for o in outliers if o.region)
    comparing.views.comparison.outlier_chosen.emit(one.sample, one.region)
    assert comparing.session.stage == "measure"
    assert comparing.session.focus.entry is not None
    assert comparing.session.focus.entry.name == one.sample
    assert comparing.session.focus.regions == {one.region}
    texts = [child.text() for child in comparing.views.comparison.outliers.findChildren(type(
        comparing.views.comparison.copy_button))]  # fmt: skip
    assert any(text.startswith(one.sample) for text in texts)


def test_the_sentence_and_the_tables_are_copied(comparing: Window) -> None:
    comparing.views.comparison.copy_button.click()
    assert "starved: 830" in clipboard()
    assert "Hedges' g" in clipboard()
    comparing.commands.compare.copy_groups()
    lines = clipboard().splitlines()
    assert lines[0].startswith("Group\tn\tRegions\tMean")
    assert "Compared\tn\tDifference" in clipboard()


def test_the_batch_is_checked_as_a_heat_map(
    comparing: Window, settle: Settle, qtbot: QtBot
) -> None:
    comparing.menus.actions["compare.checks"].trigger()
    settle()
    checks = comparing.views.comparison.checks
    assert comparing.views.comparison.view == "checks"
    assert checks.map.table.samples == tuple(e.name for e in comparing.session.state.samples)
    titles = [column.title for column in checks.map.table.columns]
    assert {"Saturated share", "Background", "Fine detail", "Regions “cell”"} <= set(titles)
    assert "starved-3: saturated share" in checks.said
    row = checks.map.table.samples.index("starved-3")
    cell = checks.map.cell(row, titles.index("Saturated share"))
    assert "stands apart" in checks.map.told_at(cell.center())
    qtbot.mouseClick(checks.map, Qt.MouseButton.LeftButton, pos=cell.center())
    assert comparing.session.focus.entry is not None
    assert comparing.session.focus.entry.name == "starved-3"
    qtbot.keyClick(checks.map, Qt.Key.Key_Down)
    assert comparing.session.focus.entry.name == "starved-4"
    checks.copy_button.click()
    assert clipboard().splitlines()[0].startswith("Sample\t")
    comparing.views.comparison.views.button("plot").click()
    assert comparing.views.comparison.view == "plot"


def test_fading_swatches_are_a_series_with_half_lives(
    window: Window, settle: Settle, tmp_path: Path, qtbot: QtBot
) -> None:
    study, _ = write_demo_study("swatches", tmp_path / "swatches")
    open_study(window, study)
    settle()
    with qtbot.waitSignal(window.compute.batch.measured, timeout=WAIT):
        window.commands.measure.measure_all()
    settle()
    window.session.go_to("compare")
    settle()
    panel = window.views.compare
    assert panel.comparison is not None
    assert panel.comparison.axis == "number"
    assert panel.shown.kind.button("series").isChecked()
    fits = panel.comparison.fits
    for name, half_life in (("bath-1", 21), ("bath-2", 17), ("bath-3", 26)):
        assert np.log(2) * fits[name].parameters[2] == pytest.approx(half_life, rel=0.02)
    assert "half-life" in " ".join(sentences(panel.comparison))
    choose(panel.shown.fit, "none")
    settle()
    assert "falls with hours" in " ".join(sentences(panel.comparison))


def test_nothing_measured_says_what_to_do(study: Window, settle: Settle) -> None:
    study.session.go_to("compare")
    settle()
    assert "Measure all" in study.views.comparison.plot.message
    assert not study.menus.actions["compare.save"].isEnabled()
