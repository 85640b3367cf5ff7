"""Checks follow the method: what it puts right is not said, what its steps doubt is."""

from __future__ import annotations

import numpy as np

from rilievo.core.batch.outcome import outcome_of
from rilievo.core.files.sample_ref import SampleRef
from rilievo.core.image.image import Plane, Sample
from rilievo.core.method.method import Method, step_use
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.checks import check_sample
from rilievo.core.pipeline.checks_of_steps import check_steps, unmended


def tilted(radius: float = 26.0) -> Sample:
    rng = np.random.default_rng(2)
    y, x = np.mgrid[:300, :300].astype(float)
    pixels = 400 + 1.5 * x + rng.normal(0, 5, x.shape)
    for cy in (45, 150, 255):
        for cx in (45, 150, 255):
            pixels[np.hypot(x - cx, y - cy) < radius] += 300
    return Sample("s", {"dye": Plane(pixels.astype(np.float32))})


def kinds(sample: Sample, method: Method) -> set[str]:
    outcome = outcome_of(SampleRef(__file__, "s"), Analysis(sample, method))  # type: ignore[arg-type]
    assert outcome.failure is None
    return {check.kind for check in outcome.checks}


def test_a_tilt_that_is_subtracted_is_not_said() -> None:
    sample = tilted()
    assert "tilted background" in kinds(sample, Method())
    flat = Method(steps=(step_use("flat", "background.mesh"),))
    assert "tilted background" not in kinds(sample, flat)
    off = Method(steps=(step_use("flat", "background.mesh").model_copy(update={"on": False}),))
    assert "tilted background" in kinds(sample, off)
    # Where one channel is left as it was, it is said.
    checks = check_sample(sample)
    use = step_use("flat", "background.mesh").model_copy(update={"channels": ("dye",)})
    one = Method(steps=(use,))
    assert unmended(checks, one, ["dye"]) != checks
    assert unmended(checks, one, ["dye", "other"]) == checks


def test_a_background_beyond_its_estimator_is_said() -> None:
    sample = tilted(44.0)
    typed = Method(steps=(step_use("flat", "background.mesh", tile=48),))
    reports = Analysis(sample, typed).step_reports(["dye"])
    (check, *_) = check_steps("s", typed, reports, ["dye"])
    assert check.kind == "background"
    assert check.text.startswith("Background mesh: At the objects this background is off by about")
    automatic = Method(steps=(step_use("flat", "background.mesh"),))
    assert not check_steps(
        "s", automatic, Analysis(sample, automatic).step_reports(["dye"]), ["dye"]
    )
    assert "background" in kinds(sample, typed)


def test_a_step_whose_channels_a_sample_lacks_is_told() -> None:
    use = step_use("m", "background.mesh").model_copy(update={"channels": ("gray", "dye")})
    method = Method(steps=(use,))
    (check,) = check_steps("s", method, {}, ["fluorescence"])
    assert (check.kind, check.severity) == ("step without its channel", "serious")
    assert "is for gray, dye, which sample “s” does not have, only fluorescence" in check.text
    assert not check_steps("s", method, {}, ["dye", "other"])
    off = Method(steps=(use.model_copy(update={"on": False}),))
    assert not check_steps("s", off, {}, ["fluorescence"])
