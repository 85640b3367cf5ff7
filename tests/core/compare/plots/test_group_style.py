from __future__ import annotations

from rilievo.core.compare.plots.group_style import group_style


def test_groups_are_told_apart_by_colour_and_shape() -> None:
    groups = tuple("abcdefgh")
    styles = [group_style(groups, group) for group in groups]
    assert len({style.colour for style in styles}) == 8
    assert len({style.marker for style in styles}) == 8
