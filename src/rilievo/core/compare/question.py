"""What is asked of the measurements, as data: stored with the study, the same for a report."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, field_validator

from rilievo.core.parameters import LARGEST, Parameters

Unit = Literal["sample", "region"]
FitKind = Literal["none", "line", "decay", "two_decays", "recovery", "saturation"]
NormaliseBy = Literal["none", "control", "reference", "first", "baseline", "matched"]
CurvesFor = Literal["group", "stack", "region"]

FITS: dict[FitKind, tuple[str, str]] = {
    "none": ("None", ""),
    "line": ("Straight line", "y = a + b·x"),
    "decay": ("Exponential decay", "y = a + b·exp(−x/τ)"),
    "two_decays": ("Decay of two components", "y = a + b·exp(−x/τ₁) + c·exp(−x/τ₂)"),
    "recovery": ("Recovery after bleaching", "y = a + b·(1 − exp(−x/τ))"),
    "saturation": ("Saturation", "y = a + b·x/(h + x)"),
}
NORMALISINGS: dict[NormaliseBy, tuple[str, str]] = {
    "none": ("As measured", ""),
    "control": ("To a control group", "by the mean of the samples of a group"),
    "reference": ("To a reference region", "by the same quantity of a region of the same sample"),
    "first": ("To the first of a series", "by the value at the lowest number or date"),
    "baseline": ("To a baseline", "by the mean of each series between two places of the axis"),
    "matched": (
        "Levels matched",
        "so that the reference has the same value in all samples; units stay",
    ),
}
CURVES: dict[CurvesFor, str] = {
    "group": "group",
    "stack": "stack",
    "region": "followed region",
}
BY_GROUP, BY_CLASS, BY_CHANNEL = "group", "class", "channel"
OF_SAMPLE, OF_REGION = "sample:", "region:"


class Normalising(Parameters):
    """What values are related to before they are compared.

    how : divided by it, or with it taken off. reference : the class, or the name of a region.
    first, last : where on the axis a baseline begins and ends, both within it.
    """

    by: NormaliseBy = Field("none", title="Normalise")
    how: Literal["ratio", "difference"] = Field("ratio", title="As")
    reference: str = Field("", max_length=200, title="Reference")
    first: float = Field(0.0, ge=-LARGEST, le=LARGEST, title="From")
    last: float = Field(0.0, ge=-LARGEST, le=LARGEST, title="To")


class Question(Parameters):
    """What is compared, how it is tested and how it is shown.

    channel, region_class : "" for the first. by : "group", "class", "channel", "sample:NAME" for
    an attribute of samples, "region:NAME" for one of regions. unit : what one value is.
    pairs : what belongs together: "", "sample", "replicate" or "sample:NAME". against : the
    category the others are compared with; "" for the first. curves : what has a curve of its own
    in a series against an attribute of samples. other_quantity, other_channel : what
    a scatter has to the right.
    """

    quantities: tuple[str, ...] = Field(("mean",), min_length=1, max_length=6, title="Quantity")
    channel: str = Field("", max_length=200, title="Channel")
    region_class: str = Field("", max_length=200, title="Class")
    by: str = Field(BY_GROUP, min_length=1, max_length=220, title="By")
    unit: Unit = Field("sample", title="One value is a")
    pairs: str = Field("", max_length=220, title="Paired by")
    against: str = Field("", max_length=200, title="Against")
    every_pair: bool = Field(False, title="Every pair")
    test: Literal["means", "ranks"] = Field("means", title="Test")
    correction: Literal["holm", "none"] = Field("holm", title="Correction")
    normalising: Normalising = Field(default_factory=Normalising)
    shown_as: str = Field("dots", validate_default=True, title="Shown as")
    curves: CurvesFor = Field("group", title="A curve for each")
    fit: FitKind = Field("none", title="Fit")
    other_quantity: str = Field("area", max_length=200, title="To the right")
    other_channel: str = Field("", max_length=200, title="Its channel")
    cumulative: bool = Field(False, title="Cumulative")

    @field_validator("shown_as")
    @classmethod
    def _known_plot(cls, key: str) -> str:
        from rilievo.core.compare.plots import PLOTS  # noqa: PLC0415 (plots are of comparisons)

        if key not in PLOTS:
            known = ", ".join(PLOTS)
            raise ValueError(f"names an unknown kind of plot {key!r}; choose one of {known}")
        return key
