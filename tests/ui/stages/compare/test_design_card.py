"""Designs through the window: a second factor, units that hold samples, costs."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from pytestqt.qtbot import QtBot

from rilievo.core.compare.question import Design
from rilievo.core.method.class_definition import ClassDefinition
from rilievo.ui.shell.window import Window
from tests.ui.conftest import WAIT, choose

Settle = Callable[[], None]
Write = Callable[..., Path]


@pytest.fixture
def nested(
    window: Window, write_tiff: Write, add: Callable[..., None], qtbot: QtBot,
    settle: Settle,
) -> Window:  # fmt: skip
    """Two groups of 2 animals of 2 fields with bright squares, on two days."""
    rng = np.random.default_rng(6)
    paths = []
    for group, shift in (("control", 0), ("treated", 90)):
        for animal in (1, 2):
            for day in (1, 2):
                values = rng.normal(100, 3, (40, 60))
                for k in range(3):
                    level = 400 + shift + 20 * animal + rng.normal(0, 10)
                    values[8:20, 4 + 18 * k : 14 + 18 * k] += level
                name = f"{group}-{animal}{day}.tif"
                paths.append(write_tiff(name, values.astype(np.uint16)))
        add(*paths)
    state = window.session.state
    known = tuple(
        replace(
            entry,
            group=entry.name.split("-")[0],
            attributes={"animal": entry.name[-2], "day": f"day {entry.name[-1]}"},
        )
        for entry in state.samples
    )
    outlined = state.method.changed(outlines=(ClassDefinition(),))
    window.session.change("Groups", replace(state, samples=known, method=outlined))
    settle()
    window.commands.measure.measure_all()
    qtbot.waitUntil(lambda: len(window.session.measurements.tables) == len(paths), timeout=WAIT)
    window.session.go_to("compare")
    qtbot.waitUntil(lambda: window.views.comparison.plot.is_drawn, timeout=WAIT)
    return window


def test_a_second_factor_is_chosen_and_undone(nested: Window, settle: Settle) -> None:
    panel = nested.views.compare
    choose(panel.design.factor, "sample:day")
    settle()
    assert panel.comparison is not None
    design = panel.comparison.design
    assert design is not None
    assert [term.name for term in design.terms] == ["group", "day", "group × day"]
    assert not panel.tests.test.isEnabled()
    panel.shown.kind.button("cells").click()
    settle()
    assert nested.views.comparison.plot.is_drawn
    nested.session.undo_stack.undo()
    nested.session.undo_stack.undo()
    settle()
    assert panel.question.design == Design()
    assert panel.tests.test.isEnabled()


def test_animals_are_the_units_and_have_costs(nested: Window, settle: Settle) -> None:
    panel = nested.views.compare
    choose(panel.design.levels[0], "sample:animal")
    settle()
    assert "take animal as the unit" in panel.design.about.text()
    panel.design.anew.click()
    settle()
    choose(panel.what.unit, "sample:animal")
    settle()
    assert panel.design.about.isHidden()
    assert panel.comparison is not None
    assert [s.samples for s in panel.comparison.statistics] == [2, 2]
    names = [field.accessibleName() for field in panel.design.costs]
    assert names == [f"Cost of one more {name}" for name in ("animal", "sample", "region")]
    panel.design.costs[0].set_value(40.0)
    panel.design.costs[0].entered.emit(40.0)
    settle()
    assert panel.question.design.costs == (40.0, 1.0, 0.0)
    panel.shown.kind.button("variation").click()
    settle()
    assert [part.name for part in panel.comparison.variation] == ["animal", "sample", "region"]
    choose(panel.design.how, "modelled")
    settle()
    assert panel.comparison.versus[0].test.name == "t test of the model"


def test_a_design_that_cannot_be_is_said_in_place(nested: Window, settle: Settle) -> None:
    panel = nested.views.compare
    choose(panel.design.blocks[0], "sample:animal")
    settle()
    choose(panel.design.levels[0], "sample:animal")
    choose(panel.design.how, "modelled")
    settle()
    assert not panel.comparisons
    assert "cannot be told" in nested.views.comparison.plot.message
