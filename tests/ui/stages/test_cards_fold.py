"""Cards of a stage: one is open, the others are a line that says what is set."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from PyQt6.QtCore import QSettings

from rilievo.ui.shell.window import Window
from rilievo.ui.widgets.card import Card, ElidedLabel, StagePanel


def cards(window: Window) -> list[Card]:
    panel = window.pages.panel
    assert isinstance(panel, StagePanel)
    return [c for c in panel.findChildren(Card) if c.can_fold and c.isVisible()]


@pytest.mark.parametrize("stage", ["look", "outline", "measure", "compare"])
def test_one_card_is_open_at_first(study: Window, stage: str, settle: Callable[[], None]) -> None:
    study.session.go_to(stage)
    settle()
    assert sum(not card.folded for card in cards(study)) == 1


def test_opening_one_folds_the_others_unless_several_may_be_open(study: Window) -> None:
    look = study.views.look
    look.sample.open()
    assert look.display.folded and not look.sample.folded
    study.menus.actions["window.one_card"].trigger()
    look.display.open()
    assert not look.display.folded and not look.sample.folded
    study.menus.actions["window.one_card"].trigger()
    assert study.menus.actions["window.one_card"].isChecked()
    look.levels.open()
    assert look.display.folded and look.sample.folded
    for name in ("sample", "display", "levels"):
        QSettings().remove(f"folded {name}")


def test_a_folded_card_says_what_is_set(study: Window, settle: Callable[[], None]) -> None:
    study.session.go_to("outline")
    settle()
    outline = study.views.outline
    assert outline.clean._about.text().startswith("fill holes")
    outline.clean.open()
    settle()
    said = outline.found._about.text()
    assert said.startswith("Otsu · each sample · ") and said.endswith("15 regions")
    assert outline.classes._about.text() == "cell"
    QSettings().remove("folded clean up")
    QSettings().remove("folded how found")


def test_the_group_is_typed_where_the_action_leads(study: Window) -> None:
    assert study.views.look.sample.folded
    study.menus.actions["sample.set_group"].trigger()
    assert study.views.look.sample.group.isVisible()
    QSettings().remove("folded sample")


def test_a_long_line_is_shortened_and_whole_in_its_tooltip(window: Window) -> None:
    label = ElidedLabel("")
    label.setText("a long line " * 20)
    assert label.minimumSizeHint().width() == 0
    assert label.toolTip() == label.text()
    label.resize(60, 20)
    label.grab()


def test_words_of_a_comparison_fold_by_themselves(measured: Window) -> None:
    measured.session.go_to("compare")
    halves = measured.views.comparison.halves
    width = measured.views.comparison.plot.width()
    halves.fold(halves.widget(1), True)
    assert measured.views.comparison.plot.width() > width + 150
    halves.fold(halves.widget(1), False)
    assert measured.views.comparison.plot.width() == pytest.approx(width, abs=2)
