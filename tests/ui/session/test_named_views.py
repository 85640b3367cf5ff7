"""Views of one's own, kept under a name."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from PyQt6.QtCore import QSettings

from rilievo.core.view.palettes import ViewStyle
from rilievo.ui.session.named_views import NamedView, forget_view, keep_view, named_views
from rilievo.ui.shell.window import Window


@pytest.fixture(autouse=True)
def clean(window: Window) -> Iterator[None]:
    QSettings().remove("named views")
    yield
    QSettings().remove("named views")


VIEW = NamedView("pale dye", (10.5, 900.0), ViewStyle(stretch="asinh", strength=7.0))


def test_views_are_kept_replaced_and_forgotten() -> None:
    keep_view(VIEW)
    keep_view(NamedView("other", (0.0, 1.0), ViewStyle()))
    assert named_views()[0] == VIEW
    keep_view(NamedView("pale dye", (1.0, 2.0), ViewStyle()))
    assert [(v.name, v.ends) for v in named_views()] == [
        ("other", (0.0, 1.0)), ("pale dye", (1.0, 2.0)),
    ]  # fmt: skip
    forget_view("other")
    forget_view("none of these")
    assert [view.name for view in named_views()] == ["pale dye"]


@pytest.mark.parametrize(
    "line",
    ["", "[]", "{", '{"name": "a"}', '{"name": "a", "ends": [1, 0], "style": {}}',
     '{"name": "a", "ends": [0, NaN], "style": {}}',
     '{"name": "a", "ends": [0, 1], "style": {"stretch": "zebra"}}'],
)  # fmt: skip
def test_what_is_no_view_is_left_out(line: str) -> None:
    assert NamedView.from_json(line) is None
    QSettings().setValue("named views", [line, VIEW.to_json()])
    assert named_views() == [VIEW]


def test_a_view_is_kept_and_used_in_the_window(study: Window) -> None:
    card, ranges = study.views.look.display, study.compute.ranges
    channel = study.session.focus.channel
    assert channel is not None
    card.use_preset("faint")
    before = ranges.display_range(channel, "native"), ranges.style(channel)
    card.keep_view("mine")
    assert list(card.own_views) == ["mine"]
    card.use_preset("full")
    assert ranges.display_range(channel, "native") != before[0]
    card.own_views["mine"].click()
    assert (ranges.display_range(channel, "native"), ranges.style(channel)) == before
    assert study.session.undo_stack.undoText() == "View: mine"
    card.own_views["mine"].actions()[0].trigger()
    assert not card.own_views and named_views() == []
