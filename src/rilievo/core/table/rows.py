"""Measurements as rows for a table: sorted, filtered, grouped with subtotals, a million at a time.

A row is a region on a channel. Numbers are whole columns of floats, texts are indices in short
lists, so that sorting and filtering never look at a row by itself.

Filters are comparisons of columns joined by “and” and “or”, where “and” binds first:

    area > 50 and mean ≥ 2 * sd        numbers, with the formulas of derived columns
    group = "starved" or class ≠ "cell"    texts, whole; ~ finds a part: sample ~ "field"
    mark ~ "edge"                      marks of the row
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from rilievo.core.formula import FormulaError, parsed
from rilievo.core.measure import Quantity
from rilievo.core.measure.region_flags import REGION_MARKS, flag
from rilievo.core.table.stack_columns import place_column, places_in
from rilievo.core.table.table import RegionTable

Column = NDArray[np.float64]
Positions = NDArray[np.int64]
Mask = NDArray[np.bool_]

# Texts by which rows may be grouped.
GROUPINGS = ("sample", "group", "channel", "class")
BINS = 40

_COMPARED = re.compile(
    r'^\s*(sample|group|channel|class|name|mark)\s*(==|=|≠|!=|~)\s*"([^"]*)"\s*$', re.IGNORECASE
)


@dataclass(frozen=True, eq=False)
class _Texts:
    """A column of texts as indices in a list of different ones, in order of appearance."""

    texts: tuple[str, ...]
    positions: NDArray[np.int32]

    def ranks(self) -> NDArray[np.int32]:
        order = np.argsort(np.argsort(np.array(self.texts, dtype=object), kind="stable"))
        return np.asarray(order[self.positions], np.int32)

    def where(self, fits: Callable[[str], bool]) -> Mask:
        return np.array([fits(text) for text in self.texts], np.bool_)[self.positions]


@dataclass(frozen=True)
class Subtotal:
    """One group of rows: its name, how many rows, and the mean of each column."""

    name: str
    count: int
    means: dict[str, float]


class Rows:
    """All rows of some tables; see the module."""

    def __init__(self, tables: Sequence[RegionTable], channel: str | None = None) -> None:
        """channel : the one whose rows are wanted; None for all."""
        self.tables = tuple(tables)
        measured = tuple(dict.fromkeys(key for t in tables for key in t.quantities))
        # Places in a stack stand before what was measured, and are not numbers of pixels.
        self.places = {k: q for k, q in places_in(self.tables).items() if k not in measured}
        self.keys = (*self.places, *measured)
        names = tuple(dict.fromkeys(name for t in tables for name in t.channels))
        self.channels = names
        blocks = [
            (k, table, name)
            for k, table in enumerate(self.tables)
            for name in table.channels
            if channel is None or name == channel
        ]
        sizes = [table.ids.size for _, table, _ in blocks]
        self.count = int(sum(sizes))
        # Where the rows of each table begin, once for each of its channels.
        self._starts: dict[int, list[int]] = {}
        start = 0
        for k, table, _ in blocks:
            self._starts.setdefault(k, []).append(start)
            start += table.ids.size
        nothing = np.zeros(0)

        def repeated(values: Sequence[int]) -> NDArray[np.int32]:
            return np.repeat(np.array(values, np.int32), sizes)

        self.table_at = repeated([k for k, _, _ in blocks])
        self.channel_at = repeated([names.index(name) for _, _, name in blocks])
        self.region = np.concatenate([np.zeros(0, np.int64), *[t.ids for _, t, _ in blocks]])
        self.flags = np.concatenate(
            [
                np.zeros(0, np.uint8),
                *[t.flags.get(n, np.zeros(t.ids.size, np.uint8)) for _, t, n in blocks],
            ]
        )
        self.columns: dict[str, Column] = {}
        for key in self.places:
            of_tables = [place_column(table, key) for table in self.tables]
            self.columns[key] = np.concatenate([nothing, *[of_tables[k] for k, _, _ in blocks]])
        for key in measured:
            parts = [t.columns[n].get(key, np.full(t.ids.size, np.nan)) for _, t, n in blocks]
            self.columns[key] = np.concatenate([nothing, *parts])
        self._quantities = {
            **self.places,
            **{
                key: next(t for t in self.tables if key in t.quantities).quantity(key)
                for key in measured
            },
        }
        self._tables_of: dict[str, list[int]] = {}
        for k, table in enumerate(self.tables):
            self._tables_of.setdefault(table.sample, []).append(k)
        self._texts: dict[str, _Texts] = {}
        self._headings: dict[str, str] = {}
        # Here, where it is no one's turn to wait: of thousands of tables it takes a while.
        for key in self.keys:
            self.heading(key)

    def quantity(self, key: str) -> Quantity:
        """Return what a column is."""
        return self._quantities[key]

    def heading(self, key: str) -> str:
        """Return the title of a column with its unit, or units where samples differ."""
        if key in self.places:
            return self.places[key].title
        if key not in self._headings:
            texts = dict.fromkeys(t.heading(key) for t in self.tables if key in t.quantities)
            alike = len(texts) == 1
            self._headings[key] = next(iter(texts)) if alike else self.quantity(key).title
        return self._headings[key]

    # -- single rows

    def table(self, row: int) -> RegionTable:
        """Return the table of a row."""
        return self.tables[int(self.table_at[row])]

    def sample(self, row: int) -> str:
        """Return the sample of a row."""
        return self.table(row).sample

    def channel(self, row: int) -> str:
        """Return the channel of a row."""
        return self.channels[int(self.channel_at[row])]

    def text(self, name: str, row: int) -> str:
        """Return sample, group, channel, class or region of a row as text."""
        table, region = self.table(row), int(self.region[row])
        if name == "region":
            return table.label_of(region)
        if name == "channel":
            return self.channel(row)
        if name == "class":
            return table.class_of(region)
        if name == "group":
            return table.facts(region).group or table.group
        return table.sample

    def marks(self, row: int) -> tuple[str, ...]:
        """Return the marks of a row."""
        table, channel = self.table(row), self.channel(row)
        flags = int(self.flags[row])
        region_marks = tuple(mark for mark in REGION_MARKS if flags & flag(mark))
        return (*table.marks.get(channel, ()), *region_marks)

    # -- texts as columns

    def texts(self, name: str) -> _Texts:
        """Return a column of texts."""
        if name not in self._texts:
            self._texts[name] = self._make_texts(name)
        return self._texts[name]

    def _make_texts(self, name: str) -> _Texts:
        if name == "channel":
            return _Texts(self.channels, self.channel_at)
        if name == "sample":
            return _Texts(tuple(t.sample for t in self.tables), self.table_at)
        per_table: list[NDArray[np.int32]] = []
        number_of: dict[str, int] = {}
        for table in self.tables:
            positions = np.empty(table.ids.size, np.int32)
            if name == "class":
                for k, text in enumerate(table.classes):
                    positions[table.of_class(k)] = number_of.setdefault(text, len(number_of))
            else:
                usual = table.group if name == "group" else ""
                positions[:] = number_of.setdefault(usual, len(number_of))
                for k, region in enumerate(table.ids.tolist() if table.known else ()):
                    facts = table.facts(region)
                    region_text = facts.group if name == "group" else facts.name
                    if region_text:
                        positions[k] = number_of.setdefault(region_text, len(number_of))
            per_table.append(positions)
        blocks = self._blocks()
        joined = np.concatenate([np.zeros(0, np.int32), *[per_table[k] for k in blocks]])
        return _Texts(tuple(number_of), joined)

    def _blocks(self) -> list[int]:
        """The table of each stretch of rows."""
        if not self.count:
            return []
        both = self.table_at.astype(np.int64) * (len(self.channels) + 1) + self.channel_at
        starts = np.flatnonzero(np.concatenate([[True], both[1:] != both[:-1]]))
        return [int(k) for k in self.table_at[starts]]

    # -- order

    def ordered(
        self, rows: Positions, by: Sequence[tuple[str, bool]], group: str | None = None
    ) -> Positions:
        """Return rows in order of several columns; undefined numbers last, ties as they were.

        by : column (a key or a text) and whether it falls, most important first.
        group : a text column that comes before all others.
        """
        sort_keys = [*([(group, False)] if group else []), *by]
        order = np.arange(rows.size)
        for name, falling in reversed(sort_keys):
            keys = self._sort_keys(name)[rows][order]
            order = order[np.argsort(-keys if falling else keys, kind="stable")]
        return np.asarray(rows[order])

    def _sort_keys(self, name: str) -> NDArray[np.float64] | NDArray[np.int64]:
        if name in self.columns:
            return self.columns[name]
        if name == "region":
            return self.region
        return self.texts(name).ranks().astype(np.int64)

    # -- which rows

    def all_rows(self) -> Positions:
        """Return every row."""
        return np.arange(self.count)

    def within(self, key: str, low: float, high: float) -> Mask:
        """Return which rows have low ≤ value ≤ high."""
        column = self.columns[key]
        return (column >= low) & (column <= high)

    def having(self, text: str) -> Mask:
        """Return which rows have a text in sample, group, class, channel or name."""
        searched = text.casefold()
        fitting = np.zeros(self.count, np.bool_)
        for name in ("sample", "group", "class", "channel", "name"):
            fitting |= self.texts(name).where(lambda cell_text: searched in cell_text.casefold())
        return fitting

    def marked(self, mark: str) -> Mask:
        """Return which rows have a mark, of the region or of its channel."""
        if mark in REGION_MARKS:
            return np.asarray((self.flags & flag(mark)) > 0)
        of_block = np.array(
            [
                [mark in table.marks.get(channel, ()) for channel in self.channels]
                for table in self.tables
            ],
            np.bool_,
        ).reshape(len(self.tables), len(self.channels))
        return np.asarray(of_block[self.table_at, self.channel_at])

    def matching(self, expression: str) -> Mask:
        """Return which rows fit a filter. Raises FormulaError with the position and the reason."""
        fitting = np.zeros(self.count, np.bool_)
        start = 0
        for part in _split(expression, "or"):
            fits = np.ones(self.count, np.bool_)
            at = start
            for single in _split(part, "and"):
                fits &= self._fits(single, expression, at)
                at += len(single) + len(" and ")
            fitting |= fits
            start += len(part) + len(" or ")
        return fitting

    def _fits(self, text: str, whole: str, at: int) -> Mask:
        match = _COMPARED.match(text)
        if match is not None:
            return self._text_fits(match[1].lower(), match[2], match[3])
        try:
            formula = parsed(text)
        except FormulaError as exc:
            raise FormulaError(whole, min(at + exc.position, len(whole)), exc.reason) from exc
        for name in formula.names:
            if name not in self.columns:
                position = max(whole.find(name, at), 0)
                raise FormulaError(whole, position, f"there is no column “{name}”")
        value = np.asarray(formula.value(self.columns), np.float64)
        return np.broadcast_to(np.nan_to_num(value) != 0, (self.count,))

    def _text_fits(self, name: str, sign: str, typed: str) -> Mask:
        if name == "mark":
            marks_met = [m for t in self.tables for marks in t.marks.values() for m in marks]
            fits = _fitting("~" if sign == "~" else "=", typed)
            marked_rows = np.zeros(self.count, np.bool_)
            for mark in dict.fromkeys([*REGION_MARKS, *marks_met]):
                if fits(mark):
                    marked_rows |= self.marked(mark)
            return ~marked_rows if sign in ("≠", "!=") else marked_rows
        return self.texts(name).where(_fitting(sign, typed))

    # -- summaries

    def histogram(self, key: str, rows: Positions) -> tuple[NDArray[np.int64], float, float]:
        """Return counts in BINS equal bins, and the ends; NaN ends where no value is defined."""
        values = self.columns[key][rows]
        values = values[np.isfinite(values)]
        if not values.size:
            return np.zeros(BINS, np.int64), np.nan, np.nan
        low, high = float(values.min()), float(values.max())
        if low == high:
            counts = np.zeros(BINS, np.int64)
            counts[BINS // 2] = values.size
            return counts, low, high
        positions = ((values - low) * (BINS / (high - low))).astype(np.int64)
        return np.bincount(np.minimum(positions, BINS - 1), minlength=BINS), low, high

    def subtotals(self, rows: Positions, group: str) -> list[tuple[Subtotal, Positions]]:
        """Return rows by a text column, in the order of its texts, with a subtotal each.

        rows : in the order in which they are shown.
        """
        texts = self.texts(group)
        ranks = texts.ranks()[rows]
        found = []
        for rank in np.unique(ranks).tolist():
            group_rows = rows[ranks == rank]
            name = texts.texts[int(texts.positions[group_rows[0]])]
            found.append(
                (Subtotal(name or "none", int(group_rows.size), self.means(group_rows)), group_rows)
            )
        return found

    def means(self, rows: Positions) -> dict[str, float]:
        """Return the mean of each column over the rows that have a value."""
        found = {}
        for key, column in self.columns.items():
            values = column[rows]
            defined = np.isfinite(values)
            found[key] = float(values[defined].mean()) if defined.any() else float("nan")
        return found

    # -- rows and regions

    def rows_of(self, chosen: Mapping[str, Iterable[int]]) -> Positions:
        """Return the rows of regions by sample, ascending, without looking at other rows."""
        row_numbers = []
        for sample, regions in chosen.items():
            numbers = np.array(sorted(regions), np.int64)
            for k in self._tables_of.get(sample, ()):
                ids = self.tables[k].ids
                positions = np.searchsorted(ids, numbers)
                there = positions < ids.size
                there[there] = ids[positions[there]] == numbers[there]
                row_numbers += [start + positions[there] for start in self._starts.get(k, ())]
        return np.sort(np.concatenate([np.zeros(0, np.int64), *row_numbers]))

    def regions_of(self, rows: Positions) -> dict[str, frozenset[int]]:
        """Return the regions of rows by sample."""
        return {
            self.tables[k].sample: frozenset(self.region[rows[self.table_at[rows] == k]].tolist())
            for k in np.unique(self.table_at[rows]).tolist()
        }


def _fitting(sign: str, typed: str) -> Callable[[str], bool]:
    if sign == "~":
        part = typed.casefold()
        return lambda text: part in text.casefold()
    if sign in ("=", "=="):
        return lambda text: text == typed
    return lambda text: text != typed


def _split(text: str, word: str) -> list[str]:
    """A text at a word that stands outside of quotes."""
    parts, start, quoted = [], 0, False
    size = len(word) + 2
    k = 0
    while k < len(text):
        if text[k] == '"':
            quoted = not quoted
        elif not quoted and text[k : k + size].casefold() == f" {word} ":
            parts.append(text[start:k])
            start = k + size
            k = start
            continue
        k += 1
    parts.append(text[start:])
    return parts
