"""What the tests of this package share."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from rilievo.core.image.image import Sample
from tests.core.helpers.large import WIDE


@pytest.fixture
def wide(make_sample: Callable[..., Sample]) -> Sample:
    return make_sample(WIDE, name="wide")
