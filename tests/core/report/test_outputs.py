from __future__ import annotations

import re
from html.parser import HTMLParser
from pathlib import Path

import pytest

from rilievo.core.errors import FileUnreadable
from rilievo.core.method.method import Method
from rilievo.core.report.outputs import write_outputs
from rilievo.core.report.page import Contents
from tests.core.helpers.report import METHOD


def test_outputs_of_a_run(outcomes: list, tmp_path: Path) -> None:
    write_outputs(Contents(outcomes, METHOD), tmp_path / "out")
    names = {path.name for path in (tmp_path / "out").iterdir()}
    assert names == {
        "regions.csv", "regions.metadata.json", "samples.csv", "method.json", "checks.csv",
        "report.html", "groups.csv", "tests.csv", "study.rilievo",
    }  # fmt: skip
    assert Method.load(tmp_path / "out" / "method.json") == METHOD
    checks = (tmp_path / "out" / "checks.csv").read_text()
    assert "failed" in checks
    assert "g1-3.tif" in checks


class _Tags(HTMLParser):
    def __init__(self) -> None:
        super().__init__()
        self.open: list[str] = []
        self.links: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag not in ("meta", "br", "link"):
            self.open.append(tag)
        self.links += [v or "" for k, v in attrs if k in ("src", "href") and v and v[0] != "#"]

    def handle_startendtag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.links += [v or "" for k, v in attrs if k in ("src", "href") and v and v[0] != "#"]

    def handle_endtag(self, tag: str) -> None:
        assert self.open.pop() == tag


def test_the_report_stands_alone_and_escapes_names(outcomes: list, tmp_path: Path) -> None:
    write_outputs(Contents(outcomes, METHOD), tmp_path)
    page = (tmp_path / "report.html").read_text()
    tags = _Tags()
    tags.feed(page)
    assert tags.open == []
    assert tags.links == [], "no outside reference"
    assert "<b>method</b>" not in page
    assert "&lt;b&gt;method" in page
    assert "g1-3.tif" in page
    assert len(re.findall("<svg", page)) == 1


def test_a_folder_that_cannot_be_made(outcomes: list, tmp_path: Path) -> None:
    (tmp_path / "file").write_text("x")
    with pytest.raises(FileUnreadable):
        write_outputs(Contents(outcomes, METHOD), tmp_path / "file" / "out")
