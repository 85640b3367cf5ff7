"""What several tests have in common: outputs of measure."""

from __future__ import annotations

from rilievo.core.measure.stars.star_settings import StarUse
from rilievo.core.method.class_definition import ClassDefinition, hand_threshold
from rilievo.core.method.method import Measure, Method

QUANTITIES = ("mean", "sum", "area", "pixel_count")


def two_classes(**measure: object) -> Method:
    return Method(
        outlines=(
            ClassDefinition(region_class="cell", threshold=hand_threshold(200), clean=()),
            ClassDefinition(region_class="core", threshold=hand_threshold(600), clean=()),
        ),
        measure=Measure.model_validate({"quantities": QUANTITIES, **measure}),
    )


def star_method() -> Method:
    star = ClassDefinition(region_class="star", source="stars", star=StarUse(radius=6))
    keys = ("flux", "flux_error", "star_x", "star_y", "fwhm", "ellipticity", "star_orientation")
    return Method(outlines=(star,), measure=Measure(quantities=keys))
