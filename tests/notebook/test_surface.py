"""The public functions: arrays out, batches, comparisons, and how a notebook shows them."""

from __future__ import annotations

import xml.etree.ElementTree as ET
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas
import pytest
import scipy.stats
import tifffile

import rilievo
from rilievo.core.errors import ComparisonError, MethodError
from rilievo.core.method.method import Method, step_use
from tests.outlines import outline

METHOD = Method(
    steps=(step_use("half", "arithmetic.number", operation="multiply", number=0.5),),
    outlines=(outline(100.0),),
)


@pytest.fixture
def sample(blobs: np.ndarray) -> rilievo.Sample:
    return rilievo.Sample.from_array(blobs.astype(np.uint16), name="a", pixel_size=2.0)


def test_one_sample_as_arrays(sample: rilievo.Sample, blobs: np.ndarray) -> None:
    signal = rilievo.correct(sample, METHOD)["gray"]
    assert np.array_equal(signal, blobs * 0.5)
    labels = rilievo.labels(sample, METHOD)
    assert labels.dtype == np.int32
    assert np.array_equal(labels > 0, blobs * 0.5 > 100)
    table = rilievo.measure(sample, METHOD).table
    for region, mean, area in zip(table["region"], table["mean"], table["area_unit"], strict=True):
        inside = labels == region
        assert mean == pytest.approx(signal[inside].mean(), rel=1e-12)
        assert area == pytest.approx(4.0 * inside.sum())
    assert table.attrs["units"]["mean"] == "counts"
    assert table.attrs["units"]["area_unit"] == "µm²"
    assert "pixel_count" not in table.attrs["units"]
    with pytest.raises(MethodError, match="did you mean “cell”"):
        rilievo.labels(sample, METHOD, "cel")


@pytest.fixture
def files(tmp_path: Path) -> list[Path]:
    rng = np.random.default_rng(2)
    paths = []
    for k, light in enumerate((300, 330, 310, 600, 640, 590)):
        pixels = rng.poisson(20, (40, 40))
        pixels[10:20, 10:20] += light
        paths.append(tmp_path / f"{'fed' if k < 3 else 'starved'}_{k % 3 + 1}.tif")
        tifffile.imwrite(paths[-1], pixels.astype(np.uint16))
    return paths


def test_a_batch_of_files_and_the_same_in_memory(files: list[Path], tmp_path: Path) -> None:
    bad = tmp_path / "starved_9.tif"
    bad.write_text("no image")
    batch = rilievo.measure_batch([*files, bad], METHOD, store=tmp_path / "r.sqlite")
    assert "does not contain an image" in batch.failures["starved_9"]
    assert repr(batch) == "<Batch: 6 of 7 samples measured, 6 regions>"
    assert set(batch.samples["group"]) == {"fed", "starved"}
    again = rilievo.measure_batch(
        [rilievo.open_sample(path) for path in files],
        METHOD,
        groups=["fed"] * 3 + ["starved"] * 3,
    )
    assert again.table["mean"].tolist() == batch.table["mean"].tolist()
    assert again.table["group"].tolist() == batch.table["group"].tolist()
    named = rilievo.measure_batch(files, METHOD, groups={"fed_1.tif": "other"})
    assert named.table["group"].tolist()[0] == "other"
    with pytest.raises(ValueError, match="No image is called “fed_9”"):
        rilievo.measure_batch(files, METHOD, groups={"fed_9": "x"})
    with pytest.raises(ValueError, match="as many groups"):
        rilievo.measure_batch(files, METHOD, groups=["a"])
    with pytest.raises(ValueError, match="not both"):
        rilievo.measure_batch([files[0], rilievo.open_sample(files[1])], METHOD)


def test_one_level_of_all_samples_in_memory(files: list[Path]) -> None:
    pooled = rilievo.load_method(
        _saved(Method(), files[0].parent / "m.json"), {"cell.pooled": True}
    )
    of_files = rilievo.measure_batch(files, pooled)
    in_memory = rilievo.measure_batch([rilievo.open_sample(path) for path in files], pooled)
    assert len({table.threshold() for table in in_memory.tables}) == 1
    assert [t.threshold() for t in in_memory.tables] == [t.threshold() for t in of_files.tables]


def _saved(method: Method, path: Path) -> Path:
    method.save(path)
    return path


def test_groups_are_compared_drawn_and_reported(files: list[Path], tmp_path: Path) -> None:
    batch = rilievo.measure_batch(files, METHOD)
    compared = rilievo.compare(batch, "mean", against="fed")
    means = batch.table.groupby("group")["mean"].apply(list)
    expected = scipy.stats.ttest_ind(means["starved"], means["fed"], equal_var=False)
    assert compared.tests["p"].iloc[0] == pytest.approx(expected.pvalue, rel=1e-9)
    difference = np.mean(means["starved"]) - np.mean(means["fed"])
    assert compared.tests["difference"].iloc[0] == pytest.approx(difference, rel=1e-12)
    assert "starved" in compared.sentences[0]
    figure = rilievo.plot(compared, "box")
    assert ET.fromstring(figure._repr_svg_()).tag.endswith("svg")  # noqa: S314
    figure.save(tmp_path / "f.png")
    assert (tmp_path / "f.png").read_bytes().startswith(b"\x89PNG")
    assert "<svg" in compared._repr_html_()
    page = rilievo.report(batch, tmp_path / "r.html", "My batch")
    assert "My batch" in page.read_text(encoding="utf-8")
    with pytest.raises(MethodError, match="unknown kind of plot"):
        rilievo.plot(compared, "pie")
    with pytest.raises(ComparisonError, match="No sample has a measured “beauty”"):
        rilievo.compare(batch, "beauty")
    with pytest.raises(MethodError, match="againts"):
        rilievo.compare(batch, againts="fed")


def test_a_notebook_shows_methods_and_tables(
    files: list[Path], sample: rilievo.Sample, write_tiff: Callable[..., Path]
) -> None:
    html = METHOD._repr_html_()
    assert "<svg" in html and "Arithmetic with a number" in html.replace("&#x27;", "'")
    assert "number 0.5" in html
    table = rilievo.measure(sample, METHOD)
    assert repr(table) == "<RegionTable “a”: 3 regions, channels gray>"
    shown = table._repr_html_()
    assert shown.count("<rect") >= 3 and "Mean (counts), gray" in shown
    batch = rilievo.measure_batch(files, METHOD)
    assert "6 of 6 samples measured" in batch._repr_html_()
    empty = rilievo.measure(rilievo.Sample.from_array(np.zeros((5, 5))), METHOD)
    assert "0 regions" in repr(empty) and empty._repr_html_()
    assert isinstance(batch.table, pandas.DataFrame)


def test_methods_by_name_with_values(tmp_path: Path) -> None:
    plain = rilievo.load_method("uneven fluorescence")
    changed = rilievo.load_method("Uneven fluorescence", {"measure.quantities": ["area"]})
    assert changed.measure.quantities == ("area",)
    assert changed.steps == plain.steps
    with pytest.raises(MethodError, match="did you mean “Uneven fluorescence”"):
        rilievo.load_method("uneven fluoresence")
