from __future__ import annotations

import pytest

from rilievo.core.cleaning import CLEANERS
from rilievo.core.method.class_definition import clean_use
from rilievo.core.method.method import Method
from rilievo.core.parameters import Parameters
from rilievo.core.regions.thresholds import THRESHOLDS
from rilievo.core.report.methods_text import in_words, methods_text
from rilievo.core.signal.steps import STEPS
from tests.core.helpers.report_pages import METHOD


def test_the_methods_paragraph_says_what_was_done() -> None:
    corrections, regions, measurements = methods_text(METHOD)
    assert corrections == (
        "Pictures were smoothed by a Gaussian of σ = 1 px. Every value was raised to the power 1, "
        "which is not linear in intensity."
    )
    assert regions == (
        "Regions “cell” were found by a threshold of 200 set by hand; brighter pixels were kept, "
        "connected by 8 neighbours; only regions with area (in px²) from 20 up were kept."
    )
    assert measurements.startswith("In each region mean and area were measured with Rilievo ")
    assert "1 region was changed by hand in 1 sample." in measurements
    assert methods_text(Method())[0] == (
        "Values were measured as they are in the files, without corrections."
    )


def test_open_ranges_are_said_in_words() -> None:
    def of(**limits: float) -> str:
        use = clean_use("keep", quantity="circularity", **limits)
        return in_words(use.parameters, use.title)

    assert of() == "only regions with circularity of any size were kept"
    assert of(upper=0.9) == "only regions with circularity up to 0.9 were kept"
    assert of(lower=0.5, upper=0.9) == "only regions with circularity from 0.5 to 0.9 were kept"


@pytest.mark.parametrize(
    ("title", "parameters"),
    [
        (registry[key].title, registry[key].parameters())
        for registry in (STEPS, THRESHOLDS, CLEANERS)
        for key in registry
    ],
)
def test_everything_a_method_can_hold_has_words(title: str, parameters: Parameters) -> None:
    text = in_words(parameters, title)
    assert text
    assert "{" not in text
    assert not text.endswith(".")
