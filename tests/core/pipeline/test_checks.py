from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest
from scipy import ndimage

from rilievo.core.files.channel_preparation import MetadataOverrides, Reading, prepared
from rilievo.core.image.image import Plane, Sample
from rilievo.core.pipeline.checks import (
    background_tilt,
    batch_properties_of,
    check_batch,
    check_sample,
    proposed_levels,
)
from tests.core.helpers.looking import RNG


def kinds(sample: Sample) -> dict[str, str]:
    return {check.kind: check.severity for check in check_sample(sample)}


def test_checks_of_a_sample(make_sample: Callable[..., Sample]) -> None:
    good = (1000 + RNG.normal(0, 20, (128, 128))).astype(np.uint16)
    assert kinds(make_sample(good)) == {}
    bordered = good.copy()
    bordered[:3] = 0
    bordered[:, -2:] = 0
    assert kinds(make_sample(bordered)) == {"empty border": "caution"}
    assert proposed_levels(make_sample(bordered)).empty == 0
    told = prepared(make_sample(bordered), Reading(), MetadataOverrides(empty=0))
    assert kinds(told) == {}
    clipped = np.minimum(good, 1030)
    assert kinds(make_sample(clipped)) == {"saturation level": "caution"}
    assert proposed_levels(make_sample(clipped)).saturation == 1030
    few = (good // 10 * 10).astype(np.uint16)
    assert "few levels" in kinds(make_sample(few))
    assert kinds(make_sample((good // 8).astype(np.uint8)))["depth"] == "note"
    tilted = (good * np.linspace(0.6, 1.4, 128)).astype(np.uint16)
    assert kinds(make_sample(tilted)) == {"tilted background": "serious"}


def test_tilt_is_that_of_the_background_not_of_objects() -> None:
    plane = np.full((256, 256), 500.0) * np.linspace(0.9, 1.1, 256)[:, None]
    assert background_tilt(plane) == pytest.approx(0.2, rel=0.02)
    plane[:100, :100] += 4000
    assert background_tilt(plane) == pytest.approx(0.2, rel=0.1)
    assert np.isnan(background_tilt(np.zeros((4, 4))))


def test_the_odd_one_of_a_batch_is_named(make_sample: Callable[..., Sample]) -> None:
    sharp = [ndimage.gaussian_filter(RNG.normal(0, 1, (256, 256)), 1.0) for _ in range(4)]
    planes = [(1000 + 300 * p).astype(np.uint16) for p in sharp]
    planes[2] = (1000 + 300 * 4 * ndimage.gaussian_filter(sharp[2], 4)).astype(np.uint16)
    properties = {
        f"s{i}": batch_properties_of(make_sample(p, name=f"s{i}")) for i, p in enumerate(planes)
    }
    properties["s3"] = batch_properties_of(
        make_sample(planes[3].astype(np.float32)[:200], pixel_size=0.7)
    )
    found = {(check.sample, check.kind) for check in check_batch(properties)}
    assert found == {
        ("s2", "blur"),
        ("s3", "mixed depth"),
        ("s3", "mixed size"),
        ("s3", "mixed pixel size"),
    }
    (blur,) = (check for check in check_batch(properties) if check.kind == "blur")
    share = 100 * properties["s2"].detail / np.median([t.detail for t in properties.values()])
    assert f"It has {share:.0f} % of the fine detail" in blur.text
    assert check_batch({"s0": properties["s0"]}) == []


@pytest.mark.parametrize(
    ("undefined", "said"),
    [(100, "100 pixels (100 %)"), (30, "30 pixels (30 %)"), (2, "2 pixels (2 %)")],
)
def test_a_share_is_said_in_plain_digits(undefined: int, said: str) -> None:
    values = np.arange(100, dtype=np.float32)
    values[:undefined] = np.nan
    sample = Sample("a", {"gray": Plane(values.reshape(10, 10))})
    (text,) = [check.text for check in check_sample(sample) if check.kind == "undefined pixels"]
    assert text.startswith(said)
