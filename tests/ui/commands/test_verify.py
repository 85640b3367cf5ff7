"""Verifying a study from the window."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import tifffile
from pytestqt.qtbot import QtBot

from rilievo.core.method.class_definition import ClassDefinition
from rilievo.core.pipeline.fingerprints import package_versions
from rilievo.core.study.study_file import load_study
from rilievo.ui.shell.window import Window
from tests.ui.conftest import WAIT


def test_a_saved_study_is_verified_and_a_changed_file_is_told(
    window: Window, write_tiff: Callable[..., Path], add: Callable[..., Window], blobs: np.ndarray,
    qtbot: QtBot, settle: Callable[[], None], tmp_path: Path, monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    paths = [write_tiff(f"{k}.tif", blobs + k) for k in range(2)]
    add(*paths)
    method = window.session.state.method.changed(outlines=(ClassDefinition(),))
    window.session.change_method("Outline", method)
    window.commands.measure.measure_all()
    qtbot.waitUntil(lambda: len(window.session.measurements.tables) == 2, timeout=WAIT)
    settle()
    # A notice goes after a while by itself.
    told: list[str] = []
    monkeypatch.setattr(window.commands.context.notices, "tell", told.append)
    action = window.menus.actions["study.verify"]
    action.trigger()
    assert "Save the study first" in told[0]
    study = tmp_path / "s.rilievo"
    window.session.save(study)
    assert load_study(study).environments == [package_versions()]
    action.trigger()
    qtbot.waitUntil(lambda: "Everything is the same." in told[-1], timeout=WAIT)
    # Opened and saved again, what measured it stays known.
    window.session.load(study)
    settle()
    window.session.save(study)
    assert load_study(study).environments == [package_versions()]
    tifffile.imwrite(paths[0], (blobs * 2).astype(np.uint16))
    action.trigger()
    qtbot.waitUntil(lambda: "0.tif has changed since it was measured" in told[-1], timeout=WAIT)
