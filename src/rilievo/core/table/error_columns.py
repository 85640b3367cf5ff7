"""Columns with the standard errors of others, beside them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from rilievo.core.measure.quantity import Quantity
from rilievo.core.table.table import RegionTable

Column = NDArray[np.float64]
# (channel, quantity) → the error of each region, by its number.
Errors = Mapping[tuple[str, str], Mapping[int, float]]

SUFFIX = "_error"


def _never(_values: object) -> Column:
    raise NotImplementedError("An error is found with the whole method, not from a region alone.")


def error_quantity(quantity: Quantity) -> Quantity:
    """Return what the column with the errors of a quantity is."""
    return Quantity(
        key=quantity.key + SUFFIX,
        title=f"± {quantity.title}",
        unit=quantity.unit,
        family="derived",
        definition=f"standard error of {quantity.key} from the noise of the camera",
        measure=_never,
        numeric_role="difference" if quantity.numeric_role != "other" else "other",
    )


def with_errors(table: RegionTable, errors: Errors) -> RegionTable:
    """Return a table with a column of errors beside each quantity that has them."""
    wanted = {key for _, key in errors}
    keys = [key for key in table.quantities if key in wanted]
    if not keys:
        return table
    columns = {
        channel: {
            name: values
            for key, values_of_key in of_channel.items()
            for name, values in _beside(table, channel, key, values_of_key, errors, key in keys)
        }
        for channel, of_channel in table.columns.items()
    }
    added = {key + SUFFIX: error_quantity(table.quantity(key)) for key in keys}
    return replace(table, columns=columns, derived={**table.derived, **added})


def _beside(
    table: RegionTable, channel: str, key: str, values_of_key: Column, errors: Errors, has: bool
) -> list[tuple[str, Column]]:
    if not has:
        return [(key, values_of_key)]
    error_of = errors.get((channel, key), {})
    values = np.array([error_of.get(region, np.nan) for region in table.ids.tolist()], np.float64)
    return [(key, values_of_key), (key + SUFFIX, values)]
