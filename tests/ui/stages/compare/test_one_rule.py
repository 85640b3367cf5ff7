"""What is compared is the same in the window, on the command line, in report and notebook."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pandas
import pytest
from pytestqt.qtbot import QtBot

import rilievo as package
from rilievo.core.compare import Question
from rilievo.core.files.sample_ref import samples_for
from rilievo.core.method.method import Measure, Method
from rilievo.core.study.study import StudyState
from rilievo.core.study.study_file import save_study
from rilievo.ui.shell.window import Window
from tests.outlines import outline
from tests.test_cli import rilievo
from tests.ui.conftest import WAIT

METHOD = Method(
    outlines=(outline(200.0, channel="channel 1"),), measure=Measure(quantities=("area", "mean"))
)


@pytest.fixture
def paths(write_tiff: Callable[..., Path]) -> list[Path]:
    """Two groups in three channels; cells are found on the first."""
    rng = np.random.default_rng(2)
    found = []
    for group, level in (("low", 400), ("high", 600)):
        for k in range(3):
            pixels = rng.normal(100, 3, (3, 30, 40))
            pixels[:, 8:18, 10:25] += np.array([300, level, 50])[:, None, None] + 10 * k
            found.append(
                write_tiff(
                    f"{group}-{k + 1}.tif", np.round(pixels).astype(np.uint16),
                    photometric="minisblack", metadata={"axes": "CYX"},
                )
            )  # fmt: skip
    return found


def study(paths: list[Path], folder: Path, question: Question) -> Path:
    state = StudyState(method=METHOD, question=question).with_samples(samples_for(paths))
    save_study(state, folder / "s.rilievo")
    return folder / "s.rilievo"


@pytest.mark.parametrize(
    ("question", "channel", "quantity"),
    [
        (Question(), "channel 2", "mean"),
        (Question(quantities=("area",), channel="channel 3"), "channel 3", "area"),
    ],
)
def test_window_and_command_line_compare_the_same(
    paths: list[Path], tmp_path: Path, question: Question, channel: str, quantity: str,
    window: Window, settle: Callable[[], None], qtbot: QtBot,
) -> None:  # fmt: skip
    path = study(paths, tmp_path, question)
    window.session.load(path)
    settle()
    with qtbot.waitSignal(window.compute.batch.measured, timeout=WAIT):
        window.commands.measure.measure_all()
    settle()
    window.session.go_to("compare")
    shown = window.views.compare.question
    assert (shown.channel, shown.quantities) == (channel, (quantity,))
    out = tmp_path / "out"
    rilievo("run", path, "--out", out, "--choices")
    groups = pandas.read_csv(out / "groups.csv")
    assert (groups["channel"][0], groups["quantity"][0]) == (channel, quantity)
    # What else a report compares when nobody chose anything follows.
    assert set(groups["channel"]) == {"channel 1", "channel 2", "channel 3"}
    choices = pandas.read_csv(out / "choices.csv")
    assert set(choices["channel"]) == {channel}
    assert set(choices["quantity"]) == {quantity}
    assert set(choices["class"]) == {"cell"}
    page = (out / "report.html").read_text()
    first = page.index('<section class="comparison">')
    assert f"{channel.capitalize()}, " in page[first : first + 200]


def test_a_notebook_compares_the_same(paths: list[Path]) -> None:
    compared = package.compare(package.measure_batch(paths, METHOD))
    assert compared.comparison.channel == "channel 2"
    chosen = package.compare(package.measure_batch(paths, METHOD), channel="channel 3")
    assert chosen.comparison.channel == "channel 3"


def test_a_run_of_a_method_compares_by_the_same_rule(paths: list[Path], tmp_path: Path) -> None:
    METHOD.save(tmp_path / "m.json")
    rilievo("run", tmp_path / "m.json", *paths, "--out", tmp_path / "out", "--no-report")
    assert pandas.read_csv(tmp_path / "out" / "groups.csv")["channel"][0] == "channel 2"


def test_comparisons_that_were_put_into_a_report_stay_alone(
    paths: list[Path], tmp_path: Path
) -> None:
    """Where a study asks nothing of its own, its report has what was put into it."""
    path = study(paths, tmp_path, Question())
    from rilievo.core.study.report_options import ReportOptions  # noqa: PLC0415
    from rilievo.core.study.study_file import load_study  # noqa: PLC0415

    options = ReportOptions(questions=(Question(quantities=("area",)),))
    state = replace(load_study(path).state, report=options)
    save_study(state, path)
    rilievo("run", path, "--out", tmp_path / "out", "--no-report")
    groups = pandas.read_csv(tmp_path / "out" / "groups.csv")
    assert set(groups["channel"]) == {"channel 2"}
    assert set(groups["quantity"]) == {"area"}
