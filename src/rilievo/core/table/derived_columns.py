"""Derived columns: formulas over measured columns, such as `sum / area_unit`.

    mean / median                 quantities of the same region and channel, by their keys
    "lipid: mean" / mean          a quantity of another channel, in quotes
    mean / mean("control")        the mean over the regions that are named “control”, or that belong
                                  to that class or group: in the same sample, else in all samples

Functions and operators are those of `formula`; mean(x) and median(x) of a column are one number
for the regions of the sample and class.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, field_validator

from rilievo.core.formula import Formula, FormulaError, parsed
from rilievo.core.measure import QUANTITIES
from rilievo.core.measure.quantity import Quantity
from rilievo.core.parameters import Parameters

if TYPE_CHECKING:
    from rilievo.core.table.table import RegionTable

Column = NDArray[np.float64]

_OF = re.compile(r'\b([A-Za-z_]\w*)\s*\(\s*"([^"]*)"\s*\)')
_SEPARATOR = " of "


class DerivedColumn(Parameters):
    """A column made of others by a formula.

    unit : as typed; empty takes the unit that follows from the formula, where one does.
    """

    name: str = Field(
        min_length=1,
        max_length=80,
        title="Name",
        description="name of the column, no key of a quantity",
    )
    formula: str = Field(
        min_length=1,
        max_length=2000,
        title="Formula",
        description="arithmetic with keys of quantities",
    )
    unit: str = Field("", max_length=40, title="Unit", description="unit of the result, for people")

    @field_validator("formula")
    @classmethod
    def _readable(cls, text: str) -> str:
        try:
            column_formula(text)
        except FormulaError as exc:
            raise ValueError(f"has a formula that cannot be read {exc}") from exc
        return text


def column_formula(text: str) -> Formula:
    """Read a formula over columns. Raises FormulaError with the position and the reason.

    A quantity followed by a quoted name stands for its mean over the regions of that name.
    """

    def named(match: re.Match[str]) -> str:
        key, name = match.groups()
        return f'"{key}{_SEPARATOR}{name}"' if key in QUANTITIES else match[0]

    return parsed(_OF.sub(named, text))


@dataclass(frozen=True)
class _Reference:
    """A quantity over the regions of a name."""

    key: str
    name: str


def _read_name(name: str, channels: Sequence[str]) -> tuple[str | None, str | _Reference]:
    """Channel (None for the row's own) and key or reference that a name in a formula means."""
    channel: str | None = None
    for channel_name in channels:
        if name.startswith(f"{channel_name}:"):
            channel, name = channel_name, name[len(channel_name) + 1 :].strip()
            break
    key, separator, of = name.partition(_SEPARATOR)
    return channel, _Reference(key, of) if separator else name


def refers_to_others(columns: Sequence[DerivedColumn]) -> bool:
    """Whether a formula may look at regions of other samples."""
    names = (name for column in columns for name in column_formula(column.formula).names)
    return any(_SEPARATOR in name for name in names)


def with_derived(
    tables: Sequence[RegionTable], columns: Sequence[DerivedColumn]
) -> list[RegionTable]:
    """Return tables with derived columns; what a formula names and is not there is undefined.

    A later column may use an earlier one.
    """
    result = list(tables)
    for column in columns:
        formula = column_formula(column.formula)
        result = [_with_column(table, column, formula, result) for table in result]
    return result


def _with_column(
    table: RegionTable, column: DerivedColumn, formula: Formula, tables: Sequence[RegionTable]
) -> RegionTable:
    columns = {}
    for channel, channel_columns in table.columns.items():
        values = np.full(table.ids.size, np.nan)
        for index in range(len(table.classes)):
            rows = table.of_class(index)
            if rows.any():
                value_of = {
                    name: _value(table, channel, name, rows, tables) for name in formula.names
                }
                values[rows] = np.broadcast_to(
                    np.asarray(formula.value(value_of), np.float64), (int(rows.sum()),)
                )
        columns[channel] = {
            **channel_columns,
            column.name: np.where(np.isfinite(values), values, np.nan),
        }
    derived = {**table.derived, column.name: _quantity(column, formula, table)}
    return replace(table, columns=columns, derived=derived)


def _value(
    table: RegionTable,
    channel: str,
    name: str,
    rows: NDArray[np.bool_],
    tables: Sequence[RegionTable],
) -> Column | float:
    other, what = _read_name(name, table.channels)
    used = other or channel
    if isinstance(what, _Reference):
        return _reference(table, used, what, tables)
    column = table.columns.get(used, {}).get(what)
    return np.full(int(rows.sum()), np.nan) if column is None else column[rows]


def _reference(
    table: RegionTable, channel: str, what: _Reference, tables: Sequence[RegionTable]
) -> float:
    """Mean over the regions of a name, class or group: of this sample, else of all."""
    for some in ([table], tables):
        values = [_named(one, channel, what) for one in some]
        together = np.concatenate(values) if values else np.zeros(0)
        together = together[np.isfinite(together)]
        if together.size:
            return float(together.mean())
    return float("nan")


def _named(table: RegionTable, channel: str, what: _Reference) -> Column:
    column = table.columns.get(channel, {}).get(what.key)
    if column is None:
        return np.zeros(0)
    if table.group == what.name:
        return np.asarray(column, np.float64)
    if what.name in table.classes:
        return np.asarray(column[table.of_class(table.classes.index(what.name))], np.float64)
    named = [r for r, facts in table.known.items() if what.name in (facts.name, facts.group)]
    return np.asarray(column[np.isin(table.ids, np.array(named, np.int64))], np.float64)


def missing_names(formula: str, table: RegionTable) -> list[str]:
    """Return the names of a formula that a table has no column for."""
    missing = []
    for name in column_formula(formula).names:
        channel, what = _read_name(name, table.channels)
        key = what.key if isinstance(what, _Reference) else what
        columns = table.columns.get(channel or table.channels[0], {}) if table.channels else {}
        if key not in columns:
            missing.append(key)
    return missing


# -- units


def _quantity(column: DerivedColumn, formula: Formula, table: RegionTable) -> Quantity:
    unit = column.unit or followed_unit(formula, table)
    return Quantity(
        key=column.name,
        title=column.name,
        unit=unit,  # type: ignore[arg-type]
        family="derived",
        definition=f"{column.formula}, a formula over measured columns",
        measure=lambda values: np.full(values.index.count, np.nan),
        symbol=column.name,
        formula=column.formula,
        needs=", ".join(formula.names),
    )


def followed_unit(formula: Formula, table: RegionTable) -> str:
    """Return the unit that follows from a formula; empty where none does."""
    unit_of: dict[str, Any] = {}
    for name in formula.names:
        channel, what = _read_name(name, table.channels)
        key = what.key if isinstance(what, _Reference) else what
        if key not in table.derived and key not in QUANTITIES:
            return ""
        signal = table.units.get(channel or (table.channels or ("",))[0], "counts")
        unit_of[name] = _WithUnit.of(table.quantity(key).unit_text(table.unit, signal))
    try:
        result = formula.work(unit_of)
    except (TypeError, ValueError):
        return ""
    return result.text() if isinstance(result, _WithUnit) else ""


class _WithUnit(np.lib.mixins.NDArrayOperatorsMixin):
    """A quantity of which only the unit is worked out."""

    def __init__(self, powers: Mapping[str, Fraction]) -> None:
        self.powers = {unit: power for unit, power in powers.items() if power}

    @classmethod
    def of(cls, unit: str) -> _WithUnit:
        """Return a quantity of a unit; a square is the unit's second power."""
        if not unit:
            return cls({})
        if unit.endswith("²"):
            return cls({unit[:-1]: Fraction(2)})
        return cls({unit: Fraction(1)})

    def __array_ufunc__(self, ufunc: Any, method: str, *inputs: Any, **_: Any) -> Any:
        if method != "__call__":
            raise TypeError(method)
        units = [argument.powers if isinstance(argument, _WithUnit) else {} for argument in inputs]
        name = ufunc.__name__
        if name in ("multiply", "divide", "true_divide"):
            sign = 1 if name == "multiply" else -1
            both = {*units[0], *units[1]}
            zero = Fraction(0)
            return _WithUnit(
                {u: units[0].get(u, zero) + sign * units[1].get(u, zero) for u in both}
            )
        if name in ("add", "subtract", "minimum", "maximum"):
            if units[0] != units[1]:
                raise TypeError("quantities of different units are added")
            return _WithUnit(units[0])
        if name in ("negative", "absolute"):
            return _WithUnit(units[0])
        if name == "sqrt":
            return _WithUnit({u: power / 2 for u, power in units[0].items()})
        if units[0]:
            raise TypeError(f"{name} has no unit that follows")
        return _WithUnit({})

    def text(self) -> str:
        """Return the unit as it is written."""
        above = [_power_text(u, p) for u, p in sorted(self.powers.items()) if p > 0]
        below = [_power_text(u, -p) for u, p in sorted(self.powers.items()) if p < 0]
        if not below:
            return "·".join(above)
        return f"{'·'.join(above) or '1'}/{'/'.join(below)}"


def _power_text(unit: str, power: Fraction) -> str:
    if power == 1:
        return unit
    return f"{unit}²" if power == 2 else f"{unit}^{power}"
