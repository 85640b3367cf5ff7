"""What is asked of the measurements, as data: stored with the study, the same for a report."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, field_validator

from rilievo.core.parameters import LARGEST, Parameters

FitKind = Literal["none", "line", "decay", "two_decays", "recovery", "saturation", "dose"]
NormaliseBy = Literal["none", "control", "reference", "first", "baseline", "matched"]
CurvesFor = Literal["group", "stack", "region"]

FITS: dict[FitKind, tuple[str, str]] = {
    "none": ("None", ""),
    "line": ("Straight line", "y = a + b·x"),
    "decay": ("Exponential decay", "y = a + b·exp(−x/τ)"),
    "two_decays": ("Decay of two components", "y = a + b·exp(−x/τ₁) + c·exp(−x/τ₂)"),
    "recovery": ("Recovery after bleaching", "y = a + b·(1 − exp(−x/τ))"),
    "saturation": ("Saturation", "y = a + b·x/(h + x)"),
    "dose": ("Dose–response", "y = a + b/(1 + (EC50/x)^s)"),
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
SAMPLE, REGION = "sample", "region"


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


class Design(Parameters):
    """What else the values differ by, and how they are nested.

    factor, blocks, levels : "group" or "sample:NAME" for an attribute of samples. factor : beside
    what is compared by, with their interaction. blocks : taken out. levels : units that hold
    samples, outermost first, such as animal and dish. modelled : whether the levels are modelled,
    else averaged up to the unit of comparison. numbered_anew : whether units of the same number
    in two groups are two units. costs : of one more unit of each level, then of a sample and of a
    region.
    """

    factor: str = Field("", max_length=220, title="Second factor")
    blocks: tuple[str, ...] = Field((), max_length=3, title="Taken out")
    levels: tuple[str, ...] = Field((), max_length=3, title="Nested in")
    modelled: bool = Field(False, title="Levels are modelled")
    numbered_anew: bool = Field(False, title="Numbered anew in each group")
    costs: tuple[Annotated[float, Field(ge=0, le=LARGEST)], ...] = Field(
        (), max_length=5, title="Costs"
    )

    @property
    def has_terms(self) -> bool:
        """Whether groups are compared by a model, not by two groups at a time."""
        return bool(self.factor or self.blocks or self.modelled)


class Question(Parameters):
    """What is compared, how it is tested and how it is shown.

    Parameters
    ----------
    quantities : tuple of str
        Keys of quantities; the first is compared, several are shown together.
    channel, region_class : str
        "" for the first.
    by : str
        "group", "class", "channel", "sample:NAME" for an attribute of samples, "region:NAME" for
        one of regions.
    unit : str
        What one value is: "sample", "region", or "sample:NAME" for all samples of the same animal,
        dish and so on.
    pairs : str
        What belongs together: "", "sample", "replicate" or "sample:NAME".
    against : str
        The category the others are compared with; "" for the first.
    bootstrap : bool
        Whether differences have intervals from units drawn again, beside those of the test.
    curves : str
        What has a curve of its own in a series against an attribute of samples.
    other_quantity, other_channel : str
        What a scatter has to the right.

    Examples
    --------
    >>> Question(quantities=("area",), against="wt").test
    'means'
    """

    quantities: tuple[str, ...] = Field(("mean",), min_length=1, max_length=6, title="Quantity")
    channel: str = Field("", max_length=200, title="Channel")
    region_class: str = Field("", max_length=200, title="Class")
    by: str = Field(BY_GROUP, min_length=1, max_length=220, title="By")
    unit: str = Field("sample", min_length=1, max_length=220, title="One value is a")
    design: Design = Field(default_factory=Design)
    pairs: str = Field("", max_length=220, title="Paired by")
    against: str = Field("", max_length=200, title="Against")
    every_pair: bool = Field(False, title="Every pair")
    test: Literal["means", "ranks"] = Field("means", title="Test")
    correction: Literal["holm", "none"] = Field("holm", title="Correction")
    bootstrap: bool = Field(False, title="Bootstrap intervals")
    normalising: Normalising = Field(default_factory=Normalising)
    shown_as: str = Field("dots", validate_default=True, title="Shown as")
    curves: CurvesFor = Field("group", title="A curve for each")
    fit: FitKind = Field("none", title="Fit")
    other_quantity: str = Field("area", max_length=200, title="To the right")
    other_channel: str = Field("", max_length=200, title="Its channel")
    cumulative: bool = Field(False, title="Cumulative")

    @field_validator("unit")
    @classmethod
    def _known_unit(cls, unit: str) -> str:
        if unit not in (SAMPLE, REGION) and not unit.startswith(OF_SAMPLE):
            raise ValueError(f"is “{unit}”; it can be sample, region or sample:NAME")
        return unit

    @field_validator("shown_as")
    @classmethod
    def _known_plot(cls, key: str) -> str:
        from rilievo.core.compare.plots import PLOTS  # noqa: PLC0415 (plots are of comparisons)

        if key not in PLOTS:
            plot_keys = ", ".join(PLOTS)
            raise ValueError(f"names an unknown kind of plot {key!r}; choose one of {plot_keys}")
        return key


def name_of(key: str) -> str:
    """Return what a key such as “sample:animal” is called."""
    return key.split(":", 1)[1] if key.startswith((OF_SAMPLE, OF_REGION)) else key


def several(key: str) -> str:
    """Return the word for several units of a key: samples, dishes, units of “time (s)”."""
    name = name_of(key)
    if not name.isalpha():
        return f"units of “{name}”"
    return name + ("es" if name.endswith(("s", "sh", "ch", "x")) else "s")
