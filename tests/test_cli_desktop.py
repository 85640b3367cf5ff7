"""Menu entry, icon and file types of a user, put in place and taken away again."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

import pytest

from tests.test_cli import rilievo


def test_they_come_and_go_without_a_trace(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    home = tmp_path / "share"
    monkeypatch.setenv("XDG_DATA_HOME", str(home))
    monkeypatch.setenv("RILIEVO_LAUNCHER", "/opt/my folder/rilievo")
    assert "in the menu" in rilievo("install-desktop").stdout
    entry = home / "applications/rilievo.desktop"
    assert 'Exec="/opt/my folder/rilievo" %F' in entry.read_text().splitlines()
    if shutil.which("desktop-file-validate"):
        subprocess.run(["desktop-file-validate", str(entry)], check=True)  # noqa: S607
    assert (home / "icons/hicolor/scalable/apps/rilievo.svg").is_file()
    assert (home / "mime/packages/rilievo.xml").is_file()
    # A second time changes nothing; what is another's stays.
    before = entry.read_text()
    rilievo("install-desktop")
    assert entry.read_text() == before
    other = home / "applications/other.desktop"
    other.write_text("[Desktop Entry]\n")
    rilievo("install-desktop", "--remove")
    left = {path.name for path in home.rglob("*") if path.is_file()}
    assert left <= {"other.desktop", "mimeinfo.cache"}
    other.unlink()
    rilievo("install-desktop", "--remove")
    assert list(home.rglob("*")) == []


def test_a_folder_that_cannot_be_written_is_said(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    file = tmp_path / "file"
    file.write_text("")
    monkeypatch.setenv("XDG_DATA_HOME", str(file))
    assert "cannot be changed" in rilievo("install-desktop", status=2).stderr
