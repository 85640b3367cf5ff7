"""Which regions are kept: not at the edge, and within a range of a quantity."""

from __future__ import annotations

from typing import ClassVar

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, field_validator, model_validator

from rilievo.core.cleaning.cleaner import CleanContext, CleanerParameters, cleaner
from rilievo.core.measure import QUANTITIES
from rilievo.core.regions.label_map import LabelMap


class ClearEdge(CleanerParameters):
    """Leave out regions that reach the edge of the picture."""

    in_words: ClassVar[str] = "regions at the edge of the picture were left out"


@cleaner("clear_edge", title="Remove at the edge", parameters=ClearEdge, order=10)
def clear_edge(label_map: LabelMap, parameters: ClearEdge, context: CleanContext) -> LabelMap:  # noqa: ARG001
    """Return the regions without a pixel in the first or last row or column."""
    labels = label_map.labels
    edge = np.concatenate([labels[0], labels[-1], labels[:, 0], labels[:, -1]])
    there = np.unique(edge[edge > 0]).astype(np.int64)
    return label_map.without(there, ["touches the edge"] * there.size)


class KeepRange(CleanerParameters):
    """Keep regions within a range of a quantity, both ends included."""

    in_words: ClassVar[str] = "only regions with {quantity} from {lower} to {upper} were kept"

    quantity: str = Field(
        "area",
        title="Quantity",
        json_schema_extra={"quantity": True},
        description="key of the quantity by which regions are chosen",
    )
    lower: float | None = Field(
        None, title="From", description="empty: no lower limit", json_schema_extra={"empty": "any"}
    )
    upper: float | None = Field(
        None, title="To", description="empty: no upper limit", json_schema_extra={"empty": "any"}
    )
    channel: str | None = Field(
        None, title="On", description="channel of an intensity; empty: where they are found",
        json_schema_extra={"channel": True},
    )  # fmt: skip

    @field_validator("quantity")
    @classmethod
    def _known(cls, key: str) -> str:
        if key not in QUANTITIES:
            raise ValueError(f"names an unknown quantity {key!r}")
        return key

    @model_validator(mode="after")
    def _ordered(self) -> KeepRange:
        if None not in (self.lower, self.upper) and self.upper < self.lower:  # type: ignore[operator]
            raise ValueError("has an upper limit below its lower limit")
        return self

    def holds(self, values: NDArray[np.float64]) -> NDArray[np.bool_]:
        """Return which values lie in the range; NaN does not. Without a limit all do."""
        if self.lower is None and self.upper is None:
            return np.ones(values.shape, np.bool_)
        low = -np.inf if self.lower is None else self.lower
        high = np.inf if self.upper is None else self.upper
        return np.asarray((values >= low) & (values <= high))

    def channels_read(self) -> tuple[str, ...]:
        """The channel of the quantity."""
        return (self.channel,) if self.channel else ()


@cleaner("keep", title="Keep a range", parameters=KeepRange, order=20)
def keep_range(label_map: LabelMap, parameters: KeepRange, context: CleanContext) -> LabelMap:
    """Return the regions with lower ≤ quantity ≤ upper; an undefined quantity is not kept.

    Without any limit all are kept.
    """
    if parameters.lower is None and parameters.upper is None:
        return label_map
    values = context.measured(label_map, parameters.quantity, parameters.channel)
    bad = np.flatnonzero(~parameters.holds(values))
    if not np.all(np.abs(values[bad]) > 0):
        # A number without a pixel, as label images may have, is no region to be left out.
        there = (
            np.bincount(np.maximum(label_map.labels, 0).ravel(), minlength=label_map.count + 1)[1:]
            > 0
        )
        bad = bad[there[bad]]
    low = -np.inf if parameters.lower is None else parameters.lower
    high = np.inf if parameters.upper is None else parameters.upper
    quantity = QUANTITIES[parameters.quantity]
    unit = quantity.unit_text(context.calibration.unit)
    reasons = [_reason(quantity.title.lower(), unit, values[k], low, high) for k in bad.tolist()]
    return label_map.without(bad + 1, reasons)


def _reason(title: str, unit: str, value: float, low: float, high: float) -> str:
    if np.isnan(value):
        return f"{title} is undefined"
    side, limit = ("below", low) if value < low else ("above", high)
    return f"{title} {value:.5g} is {side} {limit:.5g} {unit}".rstrip()
