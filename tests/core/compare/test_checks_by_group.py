"""What differs between the samples of a batch: the numbers behind the heat map."""

from __future__ import annotations

import math

import numpy as np
import pytest

from rilievo.core.compare.checks_by_group import batch_table, deviations
from rilievo.core.image.image import Sample, plane_from_native
from rilievo.core.pipeline.checks import BatchProperties, batch_properties_of
from rilievo.core.table.table import RegionTable


def traits(**changed: object) -> BatchProperties:
    plain: dict[str, object] = {
        "depth": "uint16", "size": (80, 60), "pixel_size": "0.5 µm", "exposure": "2 s",
        "detail": 0.4, "saturated": 0.0, "background": 100.0, "tilt": 0.02,
    }  # fmt: skip
    return BatchProperties(**{**plain, **changed})  # type: ignore[arg-type]


def test_deviations_by_hand() -> None:
    values = [10.0, 11, 12, 13, 14, 40]
    # Median 12.5, deviations 2.5 1.5 .5 .5 1.5 27.5: median absolute deviation 1.5.
    expected = [0.6744897501960817 * (v - 12.5) / 1.5 for v in values]
    expected[-1] = 10.0
    assert deviations(values).tolist() == pytest.approx(expected)
    # A setting that differs where all others are equal is farthest.
    assert deviations([5.0, 5, 5, 5, 6], setting=True).tolist() == [0, 0, 0, 0, 10]
    assert deviations([0.0, 0, 0, -1], setting=True).tolist() == [0, 0, 0, -10]
    # What is measured may be equal by chance: mean absolute deviation 0.2 then, times √(π/2).
    expected = 1 / (0.2 * math.sqrt(math.pi / 2))
    assert deviations([5.0, 5, 5, 5, 6])[4] == pytest.approx(expected)
    # Nearly half of many are no outliers.
    assert np.abs(deviations([15.0] * 11 + [14.0] * 9)).max() < 3.5
    assert deviations([1.0, 2.0]).tolist() == [0, 0]
    assert deviations([1.0, math.nan, 1.0, 1.0])[1] == 0
    # Less than half a per cent from the middle is nothing.
    assert abs(deviations([1000.0, 1000, 1000, 1001])[3]) < 1


def test_what_stands_apart_is_named() -> None:
    known = {f"s{k}": traits() for k in range(6)}
    known["s4"] = traits(exposure="2.8 s", depth="uint8")
    table = batch_table(known, [], dict.fromkeys(known, "g"))
    odd = table.odd_ones()
    assert ("s4", "Exposure", "2.8") in odd
    assert ("s4", "Depth", "8") in odd
    assert {sample for sample, _, _ in odd} == {"s4"}
    assert {column.title for column in table.columns} >= {
        "Exposure", "Depth", "Width (px)", "Height (px)", "Pixel size", "Saturated share",
        "Background", "Background tilt", "Fine detail",
    }  # fmt: skip


def test_a_check_that_goes_with_the_groups_is_said() -> None:
    known = {f"{g}{k}": traits(background=100.0 + 40 * (g == "b") + k) for g in "ab" for k in
             range(5)}  # fmt: skip
    groups = {name: name[0] for name in known}
    (said,) = batch_table(known, [], groups).sentences()
    assert said.startswith("Background differs between the groups (medians: a 102, b 142).")
    assert "may be the cause" in said
    # Without groups, and where groups scatter alike, nothing is said.
    assert batch_table(known, [], dict.fromkeys(known, "")).sentences() == []
    mixed = {name: "ab"[k % 2] for k, name in enumerate(sorted(known, key=lambda n: n[1]))}
    shuffled = batch_table({n: traits(background=100.0 + k % 5) for k, n in enumerate(known)}, [],
                           mixed)  # fmt: skip
    assert shuffled.sentences() == []


def test_thresholds_and_numbers_of_regions_are_checks_too() -> None:
    tables = [
        RegionTable(
            sample=f"s{k}", file="", group="", classes=("cell",),
            ids=np.arange(1, count + 1),
            columns={"dye": {"mean": np.ones(count)}},
            thresholds=(100.0 + k,),
        )
        for k, count in enumerate((12, 13, 12, 14, 90))
    ]  # fmt: skip
    known = {table.sample: traits() for table in tables}
    table = batch_table(known, tables, {})
    named = {column.title: column for column in table.columns}
    assert named["Regions “cell”"].values == (12, 13, 12, 14, 90)
    assert named["Regions “cell”"].is_odd(4)
    assert named["Threshold “cell”"].texts == ("100", "101", "102", "103", "104")


def test_traits_of_a_made_up_picture() -> None:
    x = np.mgrid[:128, :160][1].astype(float)
    pixels = np.round(1000 * (1 + 0.1 * (x / 160 - 0.5))).astype(np.uint16)
    pixels[:8, :4] = 65535
    found = batch_properties_of(Sample("s", {"gray": plane_from_native(pixels)}))
    assert found.saturated == pytest.approx(32 / pixels.size)
    assert found.background == pytest.approx(1000, rel=0.01)
    assert found.tilt == pytest.approx(0.1, rel=0.15)
    assert found.depth == "uint16"
    tiny = batch_properties_of(Sample("t", {"gray": plane_from_native(np.zeros((1, 1), np.uint8))}))
    assert math.isnan(tiny.tilt)
    assert math.isnan(tiny.background)
