"""Random hands find nothing; `bench/random_hands.py` has them walk for longer."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path

import pytest

from rilievo.core.files import images_below
from rilievo.core.files.reader import file_checksum
from rilievo.demo.sets import write_demo_study
from rilievo.ui.shell.window import Window
from tests.ui.random_hands import Hands

pytestmark = pytest.mark.slow


# What random hands once found: a picture on its way of a sample that is gone, and a history.
@pytest.mark.qt_log_ignore(".*")
@pytest.mark.parametrize("seed", [1, 2, 11])
def test_random_hands_find_nothing(
    window: Window, lipid: Path, tmp_path: Path, seed: int, settle: Callable[[], None]
) -> None:
    other, _ = write_demo_study("swatches", tmp_path / "swatches")
    # What hands save under the study's own name must not be what other tests open.
    lipid = shutil.copytree(lipid.parent, tmp_path / "lipid") / lipid.name
    window.commands.study.open_study(lipid)
    settle()
    (tmp_path / "out").mkdir()
    images = images_below([lipid.parent, other.parent])
    before = {path: (file_checksum(path), path.stat().st_mtime_ns) for path in images}
    hands = Hands(window, tmp_path / "out", [lipid, other], seed)
    with hands.watching():
        hands.walk(200)
    assert not hands.findings.said, "\n".join(hands.findings.said)
    # Whatever is done, the files that are measured stay as they are.
    assert len(before) > 12
    assert before == {path: (file_checksum(path), path.stat().st_mtime_ns) for path in images}


def test_a_new_study_while_a_picture_is_on_its_way(
    window: Window, lipid: Path, settle: Callable[[], None]
) -> None:
    """What is asked of the session while it changes is of one study."""
    session = window.session
    heard: list[bool] = []

    def look() -> None:
        entry = session.focus.entry
        heard.append(entry is None or entry in session.state.samples)

    for signal in (session.history_changed, session.file_changed, session.view.changed):
        signal.connect(look)
    session.changed.connect(lambda *_: look())
    for _ in range(2):
        window.commands.study.open_study(lipid)
        settle()
        session.focus.set(sample_id=session.state.samples[-1].id)
        window.session.view.choose(aspect=("cell", "background"))
        session.change_class("change", connectivity=4)
        window.commands.study.new()
    assert len(heard) > 6
    assert all(heard)
