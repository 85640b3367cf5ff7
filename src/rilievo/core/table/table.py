"""Measurements of a sample as columns, and the tables made from them.

The CSV files keep every digit (shortest form that reads back to the same number). Texts that a
spreadsheet would run as a formula get an apostrophe in front.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.measure import QUANTITIES, Quantity
from rilievo.core.measure.region_flags import Flags, marks_in
from rilievo.core.regions.region_set import (
    CLASS_STRIDE,
    NOTHING_KNOWN,
    RegionAnnotation,
    class_index,
    number_in_class,
)
from rilievo.core.result_frame import ResultFrame
from rilievo.core.table.table_html import table_html
from rilievo.core.wording.lists import counted

if TYPE_CHECKING:
    import pandas

Column = NDArray[np.float64]

IDENTITY_COLUMNS = ("sample", "file", "group", "channel", "region", "class", "marks")
LENGTH_UNIT = "length_unit"
# What is known of single regions; a column is there when any region of the table has it.
FACT_COLUMNS = ("name", "parent_class", "parent", "children", "edit")


@dataclass(frozen=True, eq=False)
class RegionTable:
    """Measurements of one sample: a row per region and channel.

    classes : names of the region classes; the number of a region tells its class, `class_of`.
    columns : channel → quantity key → values, one per region in the order of `ids`.
    thresholds : the level of each class, NaN where there is none. known : of single regions.
    unit : of calibrated lengths; "px" without calibration. image_pixels : pixels of a plane,
    image_width : in a row of it.
    marks : channel → what must be known of its numbers, such as “not linear”. flags : channel →
    marks of single regions as bits, in the order of `ids`; see `region_flags`.
    units : channel → unit of its signal; “counts” where it is not given.
    derived : columns that are no quantities of the registry, by key.
    attributes : what is known of the sample beside its group: from names, a table, its file.
    files : channel → its file, where the sample is made of several.
    """

    sample: str
    file: str
    group: str
    classes: tuple[str, ...]
    ids: NDArray[np.int64]
    columns: Mapping[str, Mapping[str, Column]]
    unit: str = "px"
    thresholds: tuple[float, ...] = ()
    image_pixels: int = 0
    image_width: int = 0
    marks: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    known: Mapping[int, RegionAnnotation] = field(default_factory=dict)
    flags: Mapping[str, Flags] = field(default_factory=dict)
    units: Mapping[str, str] = field(default_factory=dict)
    derived: Mapping[str, Quantity] = field(default_factory=dict)
    attributes: Mapping[str, str] = field(default_factory=dict)
    files: Mapping[str, str] = field(default_factory=dict)

    def file_of(self, channel: str) -> str:
        """Return the file that the numbers of a channel come from."""
        return self.files.get(channel, self.file)

    @property
    def image_shape(self) -> tuple[int, int]:
        """Height and width of the picture; zeros where they are not known."""
        return (self.image_pixels // self.image_width if self.image_width else 0, self.image_width)

    @property
    def channels(self) -> tuple[str, ...]:
        """Measured channels."""
        return tuple(self.columns)

    @property
    def quantities(self) -> tuple[str, ...]:
        """Measured quantities."""
        return tuple(next(iter(self.columns.values()), {}))

    def class_of(self, region: int) -> str:
        """Return the class of a region by its number."""
        index = class_index(region)
        return self.classes[index] if index < len(self.classes) else ""

    def label_of(self, region: int) -> str:
        """Return a region's name or number, after its class where there are several."""
        name = self.facts(region).name or str(number_in_class(region))
        return name if len(self.classes) < 2 else f"{self.class_of(region)} {name}"

    def facts(self, region: int) -> RegionAnnotation:
        """Return what is known of a region beside its numbers."""
        return self.known.get(region, NOTHING_KNOWN)

    def of_class(self, index: int) -> NDArray[np.bool_]:
        """Return which rows belong to the class at an index."""
        return np.asarray(self.ids // CLASS_STRIDE == index)

    def threshold(self, index: int = 0) -> float:
        """Return the level of a class; NaN where there is none."""
        return self.thresholds[index] if index < len(self.thresholds) else float("nan")

    def marks_of(self, channel: str, k: int) -> tuple[str, ...]:
        """Return all marks of the region at an index on a channel."""
        flags = self.flags.get(channel)
        region_marks = marks_in(int(flags[k])) if flags is not None else ()
        return (*self.marks.get(channel, ()), *region_marks)

    def quantity(self, key: str) -> Quantity:
        """Return what a column is."""
        return self.derived[key] if key in self.derived else QUANTITIES[key]

    def heading(self, key: str, channel: str | None = None) -> str:
        """Return the title of a column with its unit; of all channels where none is given."""
        names = self.channels if channel is None else (channel,)
        units = {self.units.get(name, "counts") for name in names}
        return self.quantity(key).heading(self.unit, " or ".join(sorted(units)))

    def column(self, channel: str, key: str) -> Column:
        """Return a quantity of a channel for all regions."""
        return self.columns[channel][key]

    @property
    def table(self) -> pandas.DataFrame:
        """The table with identity columns first; whole numbers are integers.

        The units of its columns are in `attrs["units"]`.
        """
        return with_units(region_frame([self]).to_pandas(), [self])

    def __repr__(self) -> str:
        regions = counted(self.ids.size, "region")
        return f"<RegionTable “{self.sample}”: {regions}, channels {', '.join(self.channels)}>"

    def _repr_html_(self) -> str:
        return table_html(self.sample, self.table, spread_of([self]))


def _as_column(quantity: Quantity, values: Column) -> NDArray[Any]:
    if quantity.whole and np.isfinite(values).all():
        return values.astype(np.int64)
    return values


def region_frame(tables: Sequence[RegionTable]) -> ResultFrame:
    """Return one row per sample × region × channel.

    A region with a group of its own has that instead of the sample's. Attributes of samples and
    of regions, and what is known of regions, are columns where any has them; a region's own stands
    before its sample's. Calibrated lengths have their unit in `length_unit`.
    """
    keys = list(dict.fromkeys(key for table in tables for key in table.quantities))
    facts = [_facts_of(table) for table in tables]
    fact_names = dict.fromkeys(name for rows in facts for row in rows for name in row if row[name])
    fact_names.pop("group", None)
    further = [name for name in FACT_COLUMNS if name in fact_names]
    further += [name for name in fact_names if name not in FACT_COLUMNS]
    of_samples = attribute_columns(tables)
    further += [name for name in of_samples if name not in further]
    if any(has_length(table) for table in tables):
        further.append(LENGTH_UNIT)
    collected: dict[str, list[Any]] = {name: [] for name in (*IDENTITY_COLUMNS, *further, *keys)}
    for table, rows in zip(tables, facts, strict=True):
        count = table.ids.size
        classes = [table.class_of(region) for region in table.ids.tolist()]
        for channel, columns in table.columns.items():
            collected["sample"] += [table.sample] * count
            collected["file"] += [table.file_of(channel)] * count
            collected["group"] += [row.get("group") or table.group for row in rows]
            collected["channel"] += [channel] * count
            collected["region"] += (table.ids % CLASS_STRIDE).tolist()
            collected["class"] += classes
            collected["marks"] += _mark_texts(table, channel)
            sample_facts = {name: table.attributes.get(of_samples[name], "") for name in of_samples}
            sample_facts[LENGTH_UNIT] = table.unit
            for name in further:
                collected[name] += [_first_of(row, sample_facts, name) for row in rows]
            for key in keys:
                collected[key].append(columns.get(key, np.full(count, np.nan)))
    frame: dict[str, Any] = {name: collected[name] for name in (*IDENTITY_COLUMNS, *further)}
    for key in keys:
        joined = np.concatenate(collected[key]) if collected[key] else np.zeros(0)
        quantity = next(table.quantity(key) for table in tables if key in table.quantities)
        frame[key] = _as_column(quantity, joined)
    return ResultFrame(frame)


_SHOWN_FIRST = ("mean", "flux", "sum", "area")


def spread_of(tables: Sequence[RegionTable]) -> dict[str, Column]:
    """Return all values of the quantity that is looked at first, heading → values, by channel."""
    columns: dict[str, Column] = {}
    for channel in dict.fromkeys(name for table in tables for name in table.channels):
        having = [table for table in tables if channel in table.columns]
        keys = having[0].columns[channel]
        key = next(
            (shown_key for shown_key in _SHOWN_FIRST if shown_key in keys), next(iter(keys), "")
        )
        if key:
            values = [table.columns[channel].get(key, np.zeros(0)) for table in having]
            columns[f"{having[0].heading(key, channel)}, {channel}"] = np.concatenate(values)
    return columns


def with_units(frame: pandas.DataFrame, tables: Sequence[RegionTable]) -> pandas.DataFrame:
    """Return the frame with the unit of each measured column in `attrs["units"]`.

    Where samples differ, the units stand side by side; what has none is left out.
    """
    units: dict[str, str] = {}
    for key in frame.columns:
        texts = {
            table.quantity(key).unit_text(table.unit, table.units.get(channel, "counts")): None
            for table in tables
            if key in table.quantities
            for channel in table.channels
        }
        unit_text = " or ".join(text for text in texts if text)
        if unit_text:
            units[str(key)] = unit_text
    frame.attrs["units"] = units
    return frame


def _first_of(row: Mapping[str, Any], sample_facts: Mapping[str, Any], name: str) -> Any:
    """What a region has of its own, else what its sample has."""
    value = row.get(name, "")
    return sample_facts.get(name, "") if value == "" else value


def chosen_frame(
    tables: Sequence[RegionTable], rows: Sequence[tuple[str, int, str]]
) -> ResultFrame:
    """Return some rows of `region_frame` in their order, by sample, region number and channel."""
    starts: dict[tuple[str, str], tuple[int, RegionTable]] = {}
    start = 0
    for table in tables:
        for channel in table.channels:
            starts[table.sample, channel] = (start, table)
            start += table.ids.size
    positions = []
    for sample, region, channel in rows:
        first, table = starts[sample, channel]
        positions.append(first + int(np.searchsorted(table.ids, region)))
    return region_frame(tables).taken(positions)


def _mark_texts(table: RegionTable, channel: str) -> list[str]:
    """The marks of each region in words; there are few different ones."""
    flags = table.flags.get(channel, np.zeros(table.ids.size, np.uint8))
    common = table.marks.get(channel, ())
    texts = {f: "; ".join((*common, *marks_in(f))) for f in np.unique(flags).tolist()}
    return [texts[f] for f in flags.tolist()]


def _facts_of(table: RegionTable) -> list[dict[str, Any]]:
    """What is known of each region of a table, by column."""
    if not table.known:
        return [{} for _ in range(table.ids.size)]
    children: dict[int, int] = {}
    for annotation in table.known.values():
        if annotation.parent:
            children[annotation.parent] = children.get(annotation.parent, 0) + 1
    rows = []
    for region in table.ids.tolist():
        annotation = table.known.get(region, NOTHING_KNOWN)
        row: dict[str, Any] = {
            **{name: value for name, value in annotation.attributes.items() if name not in _TAKEN},
            "name": annotation.name,
            "group": annotation.group,
            "edit": annotation.edit,
        }
        if annotation.parent:
            row |= {
                "parent": number_in_class(annotation.parent),
                "parent_class": table.class_of(annotation.parent),
            }
        if children:
            row["children"] = children.get(region, 0)
        rows.append(row)
    return rows


_TAKEN = {*IDENTITY_COLUMNS, *FACT_COLUMNS, LENGTH_UNIT, *QUANTITIES}


def attribute_columns(tables: Sequence[RegionTable]) -> dict[str, str]:
    """Return the attributes that any sample has, by the names of their columns.

    One that is called like another column has “sample” in front.
    """
    names = dict.fromkeys(name for table in tables for name in table.attributes)
    return {f"sample {name}" if name in _TAKEN else name: name for name in names}


def has_length(table: RegionTable) -> bool:
    """Whether a table has calibrated lengths or areas."""
    return any(
        table.quantity(key).unit in ("unit", "unit²")
        for columns in table.columns.values()
        for key in columns
    )
