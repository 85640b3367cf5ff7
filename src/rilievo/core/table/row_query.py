"""Which rows a table shows, and in which order: search, filters, sorting, groups."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from rilievo.core.table.rows import Rows, Subtotal

ANY_MARK = "any"


@dataclass(frozen=True)
class RowQuery:
    """What of the rows is wanted.

    sample : only this one's. mark : only rows with it; ANY_MARK for any. ranges : column, low and
    high, both included. order : column and whether it falls, most important first. group : a text
    column under whose values the rows stand together with a subtotal.
    """

    sample: str | None = None
    search: str = ""
    expression: str = ""
    mark: str = ""
    ranges: tuple[tuple[str, float, float], ...] = ()
    order: tuple[tuple[str, bool], ...] = ()
    group: str | None = None

    def reading(self, text: str) -> RowQuery:
        """Return it with what was typed: a comparison of columns filters, a word is sought."""
        text = text.strip()
        compares = any(sign in text for sign in "<>=≠≥≤~")
        return replace(self, search="" if compares else text, expression=text if compares else "")

    @property
    def filters(self) -> bool:
        """Whether rows are left out."""
        return bool(self.sample or self.search or self.expression or self.mark or self.ranges)

    def with_range(self, key: str, low: float | None, high: float | None = None) -> RowQuery:
        """Return it with the range of a column replaced; None takes it away."""
        kept = tuple(other for other in self.ranges if other[0] != key)
        if low is not None and high is not None:
            kept = (*kept, (key, low, high))
        return replace(self, ranges=kept)

    def sorted_by(self, name: str, *, also: bool) -> RowQuery:
        """Return it sorted by a column: first rising, then falling, then not at all.

        also : keep what it is sorted by already, as more important.
        """
        before = dict(self.order)
        now: bool | None = False if name not in before else (True if not before[name] else None)
        if also:
            changed = {**before, name: now} if now is not None else before
            remaining = tuple((n, f) for n, f in changed.items() if not (n == name and now is None))
            return replace(self, order=tuple((n, bool(f)) for n, f in remaining))
        return replace(self, order=() if now is None else ((name, now),))


@dataclass(frozen=True, eq=False)
class Arranged:
    """Rows as they are shown.

    rows : in order, without subtotals. entries : what stands in each line: a row, or −(k + 1)
    for subtotal k.
    """

    rows: NDArray[np.int64]
    entries: NDArray[np.int64]
    subtotals: tuple[Subtotal, ...] = ()

    @cached_property
    def _line_of(self) -> NDArray[np.int64]:
        """For each row up to the largest that is shown its line, −1 for one that is not."""
        lines = np.full(int(self.entries.max(initial=-1)) + 1, -1)
        shown = self.entries >= 0
        lines[self.entries[shown]] = np.flatnonzero(shown)
        return lines

    def lines_of(self, rows: NDArray[np.int64]) -> NDArray[np.int64]:
        """Return the lines in which rows stand, ascending; rows that are not shown have none."""
        lines = self._line_of[rows[rows < self._line_of.size]]
        return np.sort(lines[lines >= 0])


def arranged(rows: Rows, query: RowQuery) -> Arranged:
    """Return the rows that are wanted. Raises FormulaError for a filter that cannot be read."""
    fits = np.ones(rows.count, np.bool_)
    if query.sample is not None:
        fits &= rows.texts("sample").where(lambda text: text == query.sample)
    if query.search:
        fits &= rows.having(query.search)
    if query.expression.strip():
        fits &= rows.matching(query.expression)
    if query.mark == ANY_MARK:
        channel_marks = {m for t in rows.tables for marks in t.marks.values() for m in marks}
        some = rows.flags > 0
        for mark in channel_marks:
            some |= rows.marked(mark)
        fits &= some
    elif query.mark:
        fits &= rows.marked(query.mark)
    for key, low, high in query.ranges:
        if key in rows.columns:
            fits &= rows.within(key, low, high)
    sorted_by = tuple((n, f) for n, f in query.order if n in rows.columns or n not in rows.keys)
    sorted_by = tuple((n, f) for n, f in sorted_by if n in rows.columns or n in _TEXTS)
    order = rows.ordered(np.flatnonzero(fits), sorted_by)
    if query.group is None:
        return Arranged(order, order)
    parts = rows.subtotals(order, query.group)
    if not parts:
        return Arranged(order, order)
    entries = [np.concatenate([[-(k + 1)], part_rows]) for k, (_, part_rows) in enumerate(parts)]
    together = np.concatenate([part_rows for _, part_rows in parts])
    return Arranged(together, np.concatenate(entries), tuple(total for total, _ in parts))


_TEXTS = ("sample", "group", "channel", "class", "region", "name")
