from __future__ import annotations

import pytest

from rilievo.core.errors import MethodError
from rilievo.core.method.method import Method


def test_a_million_steps_are_refused_at_once() -> None:
    step = '{"id": "a", "step": "arithmetic.absolute"}'
    steps = ", ".join([step] * 1_000_000)
    text = '{"format": "rilievo-method", "version": 3, "steps": [' + steps + "]}"
    with pytest.raises(MethodError, match="“steps” has 1000000 entries"):
        Method.from_json(text)
