from __future__ import annotations

import pytest

from rilievo.core.batch import workers


@pytest.fixture(autouse=True)
def processes_at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    """Where several are asked for, also for a few small samples that are not worth them."""
    monkeypatch.setattr(workers, "START_SECONDS", 0.0)
