"""What a report holds: sections, sentences, pictures, the same bytes each time, a PDF."""

from __future__ import annotations

import contextlib
import re
import zlib
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from rilievo.core.batch import Measurer
from rilievo.core.compare import Question
from rilievo.core.errors import Cancelled, ComparisonError, MethodError
from rilievo.core.method.method import Method, checked_copy
from rilievo.core.progress import Control
from rilievo.core.report.page import Contents, report_page
from rilievo.core.report.study_report import study_contents, write_study_report
from rilievo.core.study.history import entry_for
from rilievo.core.study.report_options import SECTIONS, ReportOptions
from rilievo.core.study.study import StudyState
from rilievo.core.study.study_file import load_study, save_study
from tests.core.helpers.report_pages import METHOD

NOW = "2031-05-06T07:08:09+00:00"


@pytest.fixture
def state(write_tiff: Callable[..., Path], blobs: np.ndarray) -> StudyState:
    paths = [write_tiff(f"in/{g}-{n}.tif", blobs + 9 * n) for g in "ab" for n in (1, 2, 3)]
    return StudyState(name="Two <groups>", method=METHOD).with_files(paths)


@pytest.fixture
def contents(state: StudyState) -> Contents:
    history = [entry_for("Add smoothing", NOW, replace(state, method=Method()), state)]
    return study_contents(state, history, date="")


def headings(page: str) -> list[str]:
    return re.findall("<h2>(.*?)</h2>", page)


def test_the_report_holds_what_was_asked_for(contents: Contents) -> None:
    page = report_page(contents)
    assert headings(page) == [
        "Gray, mean per cell (counts)", "Methods", "Samples", "Pictures",
        "How much depends on the threshold", "Checks", "Changes by hand", "Numbers furthest out",
        "Definitions", "Method", "History", "Versions and checksums",
    ]  # fmt: skip
    assert "Two &lt;groups&gt;" in page
    # A picture of each stage of each sample: as it came, corrected, outlined.
    assert page.count("data:image/png;base64,") == 6 * 3
    for outcome in contents.outcomes:
        assert outcome.checksum in page
    assert "1 rejected" in page
    assert "Add smoothing" in page
    assert "not linear" in page
    assert not re.search(r'(?:src|href)="(?!data:image/png|#)', page), "nothing outside is needed"


@pytest.mark.slow
@pytest.mark.parametrize("section", list(SECTIONS))
def test_each_section_can_be_left_out(contents: Contents, section: str) -> None:
    whole = report_page(contents)
    without = report_page(replace(contents, options=ReportOptions(left_out=(section,))))
    assert len(without) < len(whole)
    gone = {
        "plots": "<svg", "statistics": "<th>quartiles</th>", "samples": "<h2>Samples",
        "pictures": "data:image/png", "methods": "<h2>Methods<", "steadiness": "<h2>How much",
        "checks": "<h2>Checks", "edits": "<h2>Changes by hand", "extremes": "<h2>Numbers",
        "definitions": "<h2>Definitions", "method": "<h2>Method<", "history": "<h2>History",
        "origin": "<h2>Versions",
    }[section]  # fmt: skip
    assert gone in whole
    assert gone not in without


def test_the_same_study_gives_the_same_bytes(state: StudyState, tmp_path: Path) -> None:
    save_study(state, tmp_path / "s.rilievo")
    loaded = load_study(tmp_path / "s.rilievo").state
    first, second = (report_page(study_contents(one, date="")) for one in (state, loaded))
    assert first == second
    dated = report_page(study_contents(state, date="on a Tuesday"))
    assert dated.replace("; on a Tuesday", "") == first


@pytest.mark.slow
def test_a_pdf_is_made_of_the_same_page(contents: Contents, tmp_path: Path) -> None:
    write_study_report(contents, tmp_path / "r.pdf")
    made = (tmp_path / "r.pdf").read_bytes()
    assert made.startswith(b"%PDF-")
    # Set in the program's own typeface, on several numbered pages.
    assert b"Inter" in made
    objects = b""
    for stream in re.findall(rb"stream\r?\n(.*?)\r?\nendstream", made, re.DOTALL):
        with contextlib.suppress(zlib.error):
            objects += zlib.decompressobj().decompress(stream)
    pages = re.search(rb"/Type /Pages.*?/Count (\d+)", objects, re.DOTALL)
    assert pages is not None
    assert int(pages[1]) > 2
    with pytest.raises(ComparisonError, match=r"must end in \.html or \.pdf"):
        write_study_report(contents, tmp_path / "r.doc")


def test_comparisons_that_cannot_be_made_are_said(contents: Contents) -> None:
    options = ReportOptions(questions=(Question(quantities=("flux",)), Question(shown_as="violin")))
    page = report_page(replace(contents, options=options))
    assert "No sample has a measured “flux”" in page
    assert page.count('<section class="comparison">') == 1


def test_what_failed_stands_on_top(state: StudyState) -> None:
    state.samples[4].path.write_text("no image")
    page = report_page(study_contents(state, date=""))
    assert headings(page)[0] == "Not measured"
    assert "b-2.tif" in page[: page.index("<section")]
    assert page.count("data:image/png;base64,") == 5 * 3


def test_making_a_report_can_be_cancelled(state: StudyState) -> None:
    control = Control()

    def report(what: str, fraction: float) -> None:
        if what == "Pictures":
            control.cancel()

    with pytest.raises(Cancelled):
        study_contents(state, measurer=Measurer(control=control), report=report)


def test_a_wish_names_sections_that_there_are() -> None:
    with pytest.raises(MethodError, match="no section 'plot'"):
        checked_copy(ReportOptions(), left_out=("plot",))
