"""Errors of numbers against what repeated pictures scatter by, and against known truth."""

from __future__ import annotations

import math

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy import ndimage

from rilievo.core.errors import StepError
from rilievo.core.files.channel_preparation import Reading
from rilievo.core.image.camera_noise import CameraNoise
from rilievo.core.image.image import Sample, plane_from_native
from rilievo.core.method.class_definition import ClassDefinition
from rilievo.core.method.method import Measure, Method, step_use
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.pipeline.uncertainty import camera_of, errors_of_numbers
from rilievo.core.regions.overlap import match_regions
from tests.outlines import outline
from tests.stars import gaussian_star

NOISE = CameraNoise(gain=2.0, read_noise=6.0, dark=100.0)


def ideal(seed: int, side: int = 120) -> NDArray[np.float64]:
    """Spots on uneven ground, counts without noise."""
    rng = np.random.default_rng(seed)
    y, x = np.mgrid[:side, :side]
    values = 250 + 40 * x / side + 20 * y / side
    for cx in range(20, side - 10, 30):
        for cy in range(20, side - 10, 30):
            disc = np.hypot(x - cx, y - cy) < 8 + rng.uniform(-1, 1)
            values = values + disc * rng.uniform(300, 700)
    return np.asarray(ndimage.gaussian_filter(values, 1))


def taken(values: NDArray[np.float64], rng: np.random.Generator, name: str) -> Sample:
    electrons = rng.poisson((values - NOISE.dark) * NOISE.gain) + rng.normal(0, 6.0, values.shape)
    plane = plane_from_native((NOISE.dark + electrons / NOISE.gain).astype(np.float32))
    return Sample(name, {"gray": plane}, checksum=name)


MESH = Method(name="m", steps=(step_use("b", "background.mesh"),), outlines=(outline(150.0),))


def test_errors_of_a_plain_mean_are_those_of_the_formula() -> None:
    flat = np.full((60, 60), 300.0)
    flat[20:40, 20:40] = 900.0
    sample = taken(flat, np.random.default_rng(1), "s")
    method = Method(name="m", outlines=(outline(600.0),))
    found = errors_of_numbers(
        Analysis(sample, method), 0, "gray", ("mean", "sum", "area"), NOISE, draws=60
    )
    # 400 pixels of 800 counts above the dark: variance 800/2 + 9.
    expected = math.sqrt((800 / 2 + 9) / 400)
    assert found["mean"].total[0] == pytest.approx(expected, rel=0.25)
    assert found["mean"].pixels[0] == pytest.approx(expected, rel=0.25)
    assert found["sum"].total[0] == pytest.approx(400 * expected, rel=0.25)
    assert found["mean"].background[0] == pytest.approx(0, abs=1e-3)
    assert found["area"].total[0] == 0.0


def test_a_division_by_a_flat_carries_the_noise_with_it() -> None:
    values = np.full((60, 60), 300.0)
    values[20:40, 20:40] = 900.0
    sample = taken(values, np.random.default_rng(1), "s")
    plain = Method(name="m", outlines=(outline(600.0),))
    scaled = plain.changed(
        steps=(step_use("n", "arithmetic.number", operation="multiply", number=3.0),),
        outlines=(outline(1800.0),),
    )
    one = errors_of_numbers(Analysis(sample, plain), 0, "gray", ("mean",), NOISE)["mean"]
    three = errors_of_numbers(Analysis(sample, scaled), 0, "gray", ("mean",), NOISE)["mean"]
    assert three.total == pytest.approx(3 * one.total, rel=1e-4)
    assert three.pixels == pytest.approx(3 * one.pixels, rel=1e-3)


def pulls(method: Method, fields: int, takes: int) -> NDArray[np.float64]:
    """(value of one picture − mean over all pictures of the field) / error, of each region.

    The error is from the first picture of a field alone, and means what other pictures of the same
    field would differ by: at the rim of a region noise decides which pixels belong to it.
    """
    found = []
    for field in range(fields):
        clean, cache = ideal(30 + field), AnalysisCache()
        pictures = [
            taken(clean, np.random.default_rng([field, k]), f"f{field} {k}") for k in range(takes)
        ]
        first = Analysis(pictures[0], method, cache).regions(0)
        errors = errors_of_numbers(
            Analysis(pictures[0], method), 0, "gray", ("mean",), NOISE, draws=100
        )
        values = np.full((takes, first.count), math.nan)
        for k, picture in enumerate(pictures):
            regions = Analysis(picture, method, cache).regions(0)
            same = match_regions(first.labels, regions.labels)
            own = Analysis(picture, method, cache).table().column("gray", "mean")
            rows = np.searchsorted(regions.ids, same.second)
            values[k, np.searchsorted(first.ids, same.first)] = own[rows]
        away = values - np.nanmean(values, axis=0)
        found.append((away / errors["mean"].total * math.sqrt(takes / (takes - 1))).ravel())
    every = np.concatenate(found)
    return np.asarray(every[np.isfinite(every)])


@pytest.mark.slow
@pytest.mark.parametrize(
    "method",
    [
        MESH,
        MESH.changed(steps=(step_use("b", "background.surface"),)),
        Method(name="m", outlines=(ClassDefinition(),)),
        MESH.changed(steps=(*MESH.steps, step_use("g", "smooth.gaussian"))),
        Method(
            name="m",
            steps=(step_use("f", "arithmetic.formula", formula="sqrt(gray)"),),
            outlines=(outline(22.0),),
        ),
    ],
    ids=["mesh", "surface", "Otsu", "smoothed", "not linear"],
)
def test_pulls_are_one(method: Method) -> None:
    found = pulls(method, 4, 30)
    assert found.size > 900
    assert np.std(found) == pytest.approx(1.0, abs=0.1)


@pytest.mark.slow
def test_pulls_of_stars_and_photographs_are_one() -> None:
    places = [(40.3 + 60 * i, 40.7 + 60 * j) for i in range(4) for j in range(4)]
    light = sum(gaussian_star((260, 260), x, y, 3e4, 4.0) for x, y in places) + 150.0
    star = Method(
        outlines=(ClassDefinition(region_class="star", source="stars"),),
        measure=Measure(quantities=("flux", "flux_error")),
    )
    found = []
    for k in range(25):
        rng = np.random.default_rng([3, k])
        counts = rng.poisson(light * 2.0) / 2.0 + rng.normal(0, 3, light.shape)
        plane = plane_from_native(counts.astype(np.float32))
        attributes = {"gain": "2", "read noise": "6"}
        sample = Sample(f"n{k}", {"g": plane}, attributes=attributes, checksum=f"n{k}")
        table = Analysis(sample, star).table()
        pull = (table.column("g", "flux") - 3e4) / table.column("g", "flux_error")
        found.append(pull[np.abs(pull) < 6])
    stars = np.concatenate(found)
    assert stars.size > 350
    assert np.std(stars) == pytest.approx(1.0, abs=0.1)
    # A photograph of 8 bits: rounding is a noise of the readout of its own.
    grays = CameraNoise(gain=30.0, read_noise=30.0 / math.sqrt(12))
    field = np.full((80, 80), 40.0)
    field[20:60, 20:60] = 150.0
    method, values, error = Method(name="m", outlines=(outline(90.0),)), [], math.nan
    for k in range(60):
        rng = np.random.default_rng([4, k])
        pixels = np.rint(rng.poisson(field * 30.0) / 30.0).clip(0, 255).astype(np.uint8)
        photo = Sample(f"p{k}", {"gray": plane_from_native(pixels)}, checksum=f"p{k}")
        if k == 0:
            error = errors_of_numbers(
                Analysis(photo, method), 0, "gray", ("mean",), grays, draws=100
            )["mean"].total[0]
        values.append(float(Analysis(photo, method).table().column("gray", "mean")[0]))
    assert np.std(values) / error == pytest.approx(1.0, abs=0.2)


def test_parts_stand_apart_where_they_can() -> None:
    sample = taken(ideal(3), np.random.default_rng(3), "s")
    errors = errors_of_numbers(Analysis(sample, MESH), 0, "gray", ("mean",), NOISE)["mean"]
    assert (errors.pixels > 0).all()
    assert (errors.background > 0).all()
    assert (errors.pixels < 1.3 * errors.total).all()
    smoothed = MESH.changed(steps=(*MESH.steps, step_use("g", "smooth.gaussian")))
    whole = errors_of_numbers(Analysis(sample, smoothed), 0, "gray", ("mean",), NOISE)["mean"]
    assert np.isnan(whole.pixels).all()
    assert (whole.total > 0).all()


def test_the_camera_is_as_given_or_as_the_file_states() -> None:
    sample = taken(ideal(1), np.random.default_rng(1), "s")
    with pytest.raises(StepError, match="gain of the camera"):
        camera_of(sample)
    assert camera_of(sample, NOISE) is NOISE
    stated = Sample("s", sample.channels, attributes={"gain": "1.5", "read noise": "4"})
    assert camera_of(stated) == CameraNoise(1.5, 4.0, 0.0)


def test_channels_that_are_made_of_others_have_their_error() -> None:
    rng = np.random.default_rng(1)
    planes = {
        name: taken(np.where(np.indices((60, 60)).min(0) > 20, level, 200.0), rng, "s").first
        for name, level in (("a", 900.0), ("b", 600.0))
    }
    sample = Sample("s", planes, checksum="s")
    terms = ({"channel": "a"}, {"channel": "b", "weight": -1.0})
    reading = Reading.model_validate(
        {"derived": [{"name": "difference", "way": "mix", "terms": terms}]}
    )
    method = Method(name="m", reading=reading, outlines=(outline(500.0, channel="a"),))
    found = errors_of_numbers(
        Analysis(sample, method), 0, "difference", ("mean",), NOISE, draws=80
    )["mean"]
    count = 39 * 39
    expected = math.sqrt((800 / 2 + 9 + 500 / 2 + 9) / count)
    assert found.total[0] == pytest.approx(expected, rel=0.25)
    assert np.isnan(found.pixels).all()
