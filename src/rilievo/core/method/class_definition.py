"""How the regions of one class are found, as data: source, threshold, drawing, rule, clean-up."""

from __future__ import annotations

import math
from typing import Annotated, Any, Literal

from pydantic import Field, SerializeAsAny, ValidationError, field_validator, model_validator

from rilievo.core.cleaning import CLEANERS, CleanerParameters
from rilievo.core.errors import MethodError
from rilievo.core.image.histogram import Histogram
from rilievo.core.measure.stars.star_settings import StarUse
from rilievo.core.parameters import Parameters, explain, with_typed_parameters
from rilievo.core.regions.derived_classes import Derivation
from rilievo.core.regions.drawn_shapes import MOST_DRAWN, DrawnRegion, check_number
from rilievo.core.regions.thresholds import THRESHOLDS, Threshold, ThresholdParameters


def hand_threshold(level: float) -> ThresholdUse:
    """Return a threshold set by hand, in signal units."""
    return ThresholdUse.model_validate({"way": "hand", "parameters": {"level": level}})


class ThresholdUse(Parameters):
    """Which threshold, with its parameters.

    factor, offset : applied to an automatic level, level · factor + offset.
    pooled : whether one level is found from the histograms of all samples together.
    pooled_level : that level as it was last found; `pooling` finds it.
    """

    way: str = Field("between_class_variance", description="key of the threshold")
    parameters: SerializeAsAny[ThresholdParameters]
    factor: float = Field(
        1.0, ge=-1000, le=1000, title="Times", description="an automatic level is multiplied by it"
    )
    offset: float = Field(
        0.0, title="Plus", description="added to an automatic level, in signal units"
    )
    pooled: bool = Field(
        False,
        title="One level for all samples",
        description="one level, found from the histograms of all samples together",
    )
    pooled_level: float | None = Field(
        None, description="the level of all samples as it was last found; written by the program"
    )

    @model_validator(mode="before")
    @classmethod
    def _typed_parameters(cls, data: Any) -> Any:
        return with_typed_parameters(
            data, "way", THRESHOLDS, "threshold", default="between_class_variance"
        )

    @property
    def entry(self) -> Threshold:
        """The threshold in the registry."""
        return THRESHOLDS[self.way]

    def level(self, histogram: Histogram) -> float:
        """Return the level for a histogram; NaN for ways that are not one level."""
        if self.entry.find is None:
            return math.nan
        if self.pooled and self.entry.automatic:
            return math.nan if self.pooled_level is None else self.pooled_level
        found = self.entry.find(histogram, self.parameters)
        return found * self.factor + self.offset if self.entry.automatic else found


class CleanUse(Parameters):
    """One step of a clean-up."""

    cleaner: str = Field(description="key of the clean-up")
    on: bool = Field(True, description="a clean-up that is off is kept and not applied")
    parameters: SerializeAsAny[CleanerParameters]

    @model_validator(mode="before")
    @classmethod
    def _typed_parameters(cls, data: Any) -> Any:
        return with_typed_parameters(data, "cleaner", CLEANERS, "clean-up")

    @property
    def title(self) -> str:
        """What the step is called."""
        return CLEANERS[self.cleaner].title


def clean_use(cleaner: str, **parameters: Any) -> CleanUse:
    """Return a step of a clean-up. Raises MethodError."""
    try:
        return CleanUse.model_validate({"cleaner": cleaner, "parameters": parameters})
    except ValidationError as exc:
        raise MethodError(explain(exc)) from exc


class OutlinePick(Parameters):
    """A pixel of the file that was said to lie inside or outside the objects."""

    x: int = Field(description="column of the file")
    y: int = Field(description="row of the file")
    inside: bool = Field(description="true: inside an object, false: background")
    sample: str = Field(min_length=1, description="name of the sample")


FileName = Annotated[str, Field(max_length=4000)]
Source = Literal["threshold", "drawn", "derived", "label_image", "stars"]


class ClassDefinition(Parameters):
    """How the regions of one class are found.

    label_image : file of a label image, with {sample} for the sample's name.
    """

    region_class: str = Field(
        "cell",
        min_length=1,
        max_length=80,
        title="Class",
        description="name of the class, unique in the method",
    )
    source: Source = Field(
        "threshold",
        title="Found by",
        description="threshold, drawn, derived from other classes, label image, or stars",
    )
    channel: str | None = Field(None, title="Found on", description="None means the first channel")
    keep: Literal["bright", "dark"] = Field(
        "bright", title="Keep pixels", description="bright keeps values > t, dark keeps ≤ t"
    )
    threshold: ThresholdUse = Field(
        default_factory=lambda: ThresholdUse.model_validate({}),
        description="how the threshold is found, for the source threshold",
    )
    connectivity: Literal[4, 8] = Field(
        8,
        title="Connectivity",
        description="8 joins pixels that touch at a corner, 4 only at a side",
    )
    drawn: tuple[DrawnRegion, ...] = Field(
        (), max_length=MOST_DRAWN, title="Drawn", description="regions drawn by hand"
    )
    derivation: Derivation = Field(
        default_factory=Derivation,
        title="Derived",
        description="of a class that is made from others",
    )
    label_image: dict[Literal["file"], Annotated[str, Field(max_length=4000)]] = Field(
        default_factory=dict,
        title="Label image",
        description="a file whose pixels are region numbers, with {sample} for the sample's name",
    )
    star: StarUse = Field(
        default_factory=StarUse,
        title="Stars",
        description="how stars are found and measured, for the source stars",
    )
    clean: tuple[CleanUse, ...] = Field(
        default_factory=lambda: (clean_use("fill_holes"),),
        max_length=100,
        title="Clean up",
        description="clean-ups in the order in which they are applied",
    )
    picks: tuple[OutlinePick, ...] = Field(
        (),
        max_length=10_000,
        title="Picks",
        description="pixels that were said to lie inside or outside objects",
    )

    _few_enough = field_validator("drawn")(check_number)

    @property
    def needs(self) -> tuple[str, ...]:
        """The other classes from which it is made."""
        return self.derivation.needs if self.source == "derived" else ()

    def channels_read(self) -> tuple[str, ...]:
        """Return the names of channels that are read beside the one it is found on."""
        names = list(self.threshold.parameters.channels_read())
        if self.source != "threshold":
            names = []
        for use in self.clean:
            names += use.parameters.channels_read() if use.on else ()
        return tuple(dict.fromkeys(names))
