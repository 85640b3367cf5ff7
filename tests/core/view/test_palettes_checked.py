from __future__ import annotations

import pytest

from rilievo.core.view.palettes import ViewStyle


def test_every_new_field_of_a_style_is_checked() -> None:
    for wrong in ({"bands": 1}, {"relief": -1}, {"light": 361}, {"smooth": 9}, {"stretch": "odd"}):
        with pytest.raises(ValueError, match=next(iter(wrong))):
            ViewStyle(**wrong)  # type: ignore[arg-type]
