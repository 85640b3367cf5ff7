"""What every table of results is: named columns of one length, written as text without pandas.

CSV keeps every digit, in the shortest form that reads back to the same number. Texts that a
spreadsheet would run as a formula get an apostrophe in front.
"""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

from rilievo.core.atomic_write import write_safely, write_text_safely

if TYPE_CHECKING:
    import pandas

# Numbers, whole numbers or truths as an array; anything else as a list.
Column: TypeAlias = NDArray[Any] | list[Any]


class ResultFrame:
    """Named columns of one length, in an order.

    Parameters
    ----------
    columns : mapping of str to sequence
        Whole numbers beside numbers or gaps (None, NaN) become numbers with NaN.

    Examples
    --------
    >>> frame = ResultFrame({"sample": ["a", "b"], "mean": [1.5, None]})
    >>> print(frame.csv_text(), end="")
    sample,mean
    a,1.5
    b,
    """

    def __init__(self, columns: Mapping[str, Sequence[Any] | NDArray[Any]]) -> None:
        self._columns = {str(name): _column(values) for name, values in columns.items()}

    @classmethod
    def of_rows(cls, names: Sequence[str], rows: Iterable[Sequence[Any]]) -> ResultFrame:
        """Return a frame of rows, each with a value a name."""
        row_list = list(rows)
        values: Iterable[Sequence[Any]] = (
            zip(*row_list, strict=True) if row_list else ([] for _ in names)
        )
        return cls(dict(zip(names, map(list, values), strict=True)))

    @classmethod
    def of_records(
        cls, records: Sequence[Mapping[str, Any]], names: Sequence[str] = ()
    ) -> ResultFrame:
        """Return a frame of rows by name; what a row lacks is a gap. names : come first."""
        every = dict.fromkeys((*names, *(name for record in records for name in record)))
        return cls({name: [record.get(name) for record in records] for name in every})

    @classmethod
    def joined(cls, frames: Sequence[ResultFrame]) -> ResultFrame:
        """Return frames one below the other; a column that one lacks has gaps there."""
        names = dict.fromkeys(name for frame in frames for name in frame.names)
        return cls(
            {
                name: [
                    value
                    for frame in frames
                    for value in (frame[name] if name in frame else [None] * len(frame))
                ]
                for name in names
            }
        )

    @property
    def names(self) -> tuple[str, ...]:
        """Names of the columns."""
        return tuple(self._columns)

    def __len__(self) -> int:
        return len(next(iter(self._columns.values()), ()))

    def __contains__(self, name: str) -> bool:
        return name in self._columns

    def __getitem__(self, name: str) -> list[Any]:
        """The values of a column as plain numbers and texts."""
        return _plain(self._columns[name])

    def is_numeric(self, name: str) -> bool:
        """Whether a column has numbers alone."""
        column = self._columns[name]
        return isinstance(column, np.ndarray) and column.dtype.kind in "if"

    def rows(self) -> Iterator[tuple[Any, ...]]:
        """Yield the rows as plain numbers and texts."""
        return zip(*(self[name] for name in self.names), strict=True)

    def records(self) -> list[dict[str, Any]]:
        """Return the rows, each by name."""
        return [dict(zip(self.names, row, strict=True)) for row in self.rows()]

    def taken(self, positions: Sequence[int]) -> ResultFrame:
        """Return some rows in an order."""
        return ResultFrame(
            {
                name: column[list(positions)]
                if isinstance(column, np.ndarray)
                else [column[k] for k in positions]
                for name, column in self._columns.items()
            }
        )

    def chosen(self, names: Iterable[str]) -> ResultFrame:
        """Return some columns in an order; one that is not there has gaps."""
        gap = [None] * len(self)
        return ResultFrame({name: self._columns.get(name, gap) for name in names})

    def without_empty(self) -> ResultFrame:
        """Return the columns that have any value."""
        return self.chosen(
            [name for name in self.names if not all(_is_gap(value) for value in self[name])]
        )

    def csv_text(self, *, header: bool = True, separator: str = ",") -> str:
        """Return the rows as text, undefined numbers empty."""
        text = io.StringIO()
        writer = csv.writer(text, delimiter=separator, lineterminator="\n")
        if header:
            writer.writerow([neutralised(name) for name in self.names])
        writer.writerows(zip(*(_texts(column) for column in self._columns.values()), strict=True))
        return text.getvalue()

    def write_csv(self, path: Path) -> None:
        """Write it as UTF-8 CSV, whole or not at all. Raises FileUnreadable."""
        write_text_safely(path, self.csv_text())

    def to_pandas(self) -> pandas.DataFrame:
        """Return it as a DataFrame, for who works on with one."""
        import pandas  # noqa: PLC0415 (slow to import)

        return pandas.DataFrame(self._columns)


def write_parts(path: Path, names: Sequence[str], parts: Iterable[ResultFrame]) -> None:
    """Write frames below each other as one CSV, of which one part at a time is held.

    Raises FileUnreadable.
    """

    def write(target: Path) -> None:
        with target.open("w", encoding="utf-8", newline="") as file:
            file.write(ResultFrame({name: [] for name in names}).csv_text())
            for part in parts:
                file.write(part.chosen(names).csv_text(header=False))

    write_safely(path, write)


def neutralised(text: str) -> str:
    """Return a text that no spreadsheet runs as a formula."""
    return f"'{text}" if text[:1] in ("=", "+", "-", "@", "\t", "\r") else text


def _column(values: Sequence[Any] | NDArray[Any]) -> Column:
    if isinstance(values, np.ndarray):
        return values
    listed = list(values)
    kinds = {type(value) for value in listed}
    if not listed or str in kinds:
        return listed
    if kinds <= {bool, np.bool_}:
        return np.array(listed, np.bool_)
    if kinds <= _WHOLE:
        return np.array(listed, np.int64)
    if kinds <= _WHOLE | _REAL and kinds != {type(None)}:
        return np.array([math.nan if value is None else value for value in listed], np.float64)
    return listed


_WHOLE = {int, np.int64, np.int32, np.intp, np.uint8}
_REAL = {float, np.float64, np.float32, type(None)}


def _plain(column: Column) -> list[Any]:
    plain: list[Any] = column.tolist() if isinstance(column, np.ndarray) else column
    return plain


def _is_gap(value: Any) -> bool:
    return value is None or (isinstance(value, float) and math.isnan(value))


def _texts(column: Column) -> list[str]:
    """The values as they are written."""
    write: Callable[[Any], str] = _text
    if isinstance(column, np.ndarray):
        # Of a million numbers a look at the kind of each takes longer than writing it.
        write = _number if column.dtype.kind == "f" else str
    return [write(value) for value in _plain(column)]


def _number(value: float) -> str:
    return "" if value != value else repr(value)  # noqa: PLR0124 (NaN)


def _text(value: Any) -> str:
    if isinstance(value, str):
        return neutralised(value)
    if _is_gap(value):
        return ""
    return repr(float(value)) if isinstance(value, float) else str(value)
