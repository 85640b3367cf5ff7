"""Two measurers of one set: values, matches and limits against known differences."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pandas
import pytest

from rilievo.core.batch import measured
from rilievo.core.errors import ComparisonError
from rilievo.core.files.sample_ref import SampleRef, samples_for
from rilievo.core.method.method import Method, SampleException, step_use
from rilievo.core.report.two_measurers import measure_twice, sentences, write_agreement
from tests.core.helpers.measuring import run_batch
from tests.outlines import outline, reject

FIRST = Method(name="m", outlines=(outline(200.0),))
NAMES = ("Ada", "Bea")


@pytest.fixture
def items(write_tiff: Callable[..., Path]) -> list[SampleRef]:
    rng = np.random.default_rng(1)
    found = []
    for k in range(5):
        values = rng.normal(100, 2, (40, 60))
        for x in (5, 25, 45):
            values[10:20, x : x + 10] += 300 + 30 * k + rng.normal(0, 20)
        found.append(samples_for([write_tiff(f"s{k}.tif", values.astype(np.uint16))])[0])
    return found


def test_the_same_method_agrees_wholly(items: list[SampleRef]) -> None:
    found = measure_twice(items, (FIRST, FIRST), NAMES)
    assert len(found.pairs) == 15
    assert {pair.overlap for pair in found.pairs} == {1.0}
    limits = found.limits("region")
    assert (limits.bias, limits.sd) == (0.0, 0.0)
    assert found.absolute("sample").value == 1.0
    tables = measured(run_batch(items, FIRST))
    means = [float(t.column("gray", "mean").mean()) for t in tables]
    assert [s.values[0] for s in found.samples] == pytest.approx(means)


def test_an_offset_and_rejected_regions_are_told(items: list[SampleRef]) -> None:
    second = FIRST.changed(
        steps=(step_use("n", "arithmetic.number", operation="subtract", number=7.0),),
        outlines=(outline(193.0),),
        exceptions={items[0].name: SampleException(edits=reject((8, 12)))},
    )
    found = measure_twice(items, (FIRST, second), NAMES)
    assert len(found.pairs) == 14
    assert found.samples[0].regions == (3, 2)
    assert found.samples[0].score == pytest.approx(4 / 5)
    limits = found.limits("region")
    assert limits.bias == pytest.approx(-7)
    assert limits.sd == pytest.approx(0, abs=1e-3)
    assert found.consistency("region").value == pytest.approx(1, abs=1e-6)
    assert found.absolute("region").value < 1
    said = " ".join(sentences(found))
    assert "Ada found 15 regions, Bea 14; 14 of them are the same (score 0.97" in said
    assert "Bea − Ada of gray, mean" in said
    assert "not independent" in said


def test_what_fails_is_said(items: list[SampleRef]) -> None:
    broken = replace(items[1], path=Path("gone.tif"))
    found = measure_twice([items[0], broken], (FIRST, FIRST), NAMES)
    assert found.failures.keys() == {broken.name}
    assert "Too few sample means" in " ".join(sentences(found))
    with pytest.raises(ComparisonError, match="not in both"):
        measure_twice(items, (FIRST, FIRST), NAMES, region_class="leaf")
    with pytest.raises(ComparisonError, match="no quantity"):
        measure_twice(items, (FIRST, FIRST), NAMES, quantity="beauty")
    with pytest.raises(ComparisonError, match="No sample could be measured"):
        measure_twice([broken], (FIRST, FIRST), NAMES)
    with pytest.raises(ComparisonError, match="No sample could be measured"):
        measure_twice(items, (FIRST, FIRST), NAMES, channel="dye")


def test_tables_and_plot_are_written(items: list[SampleRef], tmp_path: Path) -> None:
    second = FIRST.changed(outlines=(outline(350.0),))
    found = measure_twice(items, (FIRST, second), NAMES)
    for name in ("a", "b"):
        write_agreement(found, tmp_path / name)
    names = {path.name for path in (tmp_path / "a").iterdir()}
    assert names == {
        "agreement.csv", "agreement.svg", "agreement.txt", "pairs.csv", "samples.csv",
    }  # fmt: skip
    svg = (tmp_path / "a" / "agreement.svg").read_bytes()
    assert svg == (tmp_path / "b" / "agreement.svg").read_bytes()
    pairs = pandas.read_csv(tmp_path / "a" / "pairs.csv")
    assert len(pairs) == len(found.pairs)
    rows = pandas.read_csv(tmp_path / "a" / "agreement.csv")
    assert rows["unit"].tolist() == ["sample", "region"]
