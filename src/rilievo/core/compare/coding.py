"""Categories as columns of a linear model, so that each term can be tested and averaged over."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Matrix = NDArray[np.float64]


@dataclass(frozen=True)
class Coding:
    """Factors with their levels, and the pairs of factors whose interaction is a term.

    Each factor of L levels has L − 1 columns that sum to 0 over its levels: a term left out of a
    row is averaged over, each level with the same weight, however many values it has.
    """

    factors: Mapping[str, tuple[str, ...]]
    interactions: tuple[tuple[str, str], ...] = ()

    @property
    def terms(self) -> dict[str, slice]:
        """Columns of each term; the first column is the mean of all."""
        slices: dict[str, slice] = {}
        start = 1
        sizes = {name: len(levels) - 1 for name, levels in self.factors.items()}
        sizes |= {f"{a} × {b}": sizes[a] * sizes[b] for a, b in self.interactions}
        for name, size in sizes.items():
            slices[name] = slice(start, start + size)
            start += size
        return slices

    @property
    def columns(self) -> int:
        """How many columns a row has."""
        return max((place.stop for place in self.terms.values()), default=1)

    def row(self, levels: Mapping[str, str]) -> Matrix:
        """Return the columns of a value, or of a mean over all factors that are not named."""
        coded = {
            name: self._coded(name, levels[name]) if name in levels else None
            for name in self.factors
        }
        row = np.zeros(self.columns)
        row[0] = 1
        for name, columns in self.terms.items():
            coded_levels = coded.get(name)
            if name in self.factors:
                row[columns] = 0 if coded_levels is None else coded_levels
                continue
            first, second = (coded[part] for part in self._parts(name))
            if first is not None and second is not None:
                row[columns] = np.outer(first, second).ravel()
        return row

    def matrix(self, values: Sequence[Mapping[str, str]]) -> Matrix:
        """Return a row for each value, which names all factors."""
        # Very many values have few kinds of rows.
        row_of: dict[tuple[str, ...], Matrix] = {}
        rows = []
        for cell in values:
            key = tuple(cell[name] for name in self.factors)
            if key not in row_of:
                row_of[key] = self.row(cell)
            rows.append(row_of[key])
        return np.array(rows).reshape(len(values), self.columns)

    def test_of(self, term: str) -> Matrix:
        """Return the sums of coefficients that are 0 where a term has no effect."""
        return np.eye(self.columns)[self.terms[term]]

    def _coded(self, name: str, level: str) -> Matrix:
        levels = self.factors[name]
        coded = np.zeros(len(levels) - 1)
        at = levels.index(level)
        if at == len(levels) - 1:
            coded[:] = -1
        else:
            coded[at] = 1
        return coded

    def _parts(self, term: str) -> tuple[str, str]:
        return next(pair for pair in self.interactions if f"{pair[0]} × {pair[1]}" == term)
