"""What the table costs at a million rows: arranging them, and printing what is on the screen.

    python bench/bench_table.py

Ten samples of 50 000 regions on two channels with twelve quantities. Printing is what scrolling
does on the interface thread: the cells of one screen are asked for, text, alignment and colour.
"""

from __future__ import annotations

import os

import numpy as np

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QApplication

from rilievo.core.table.row_query import RowQuery, arranged
from rilievo.core.table.rows import Rows
from rilievo.core.table.table import RegionTable
from rilievo.ui.panels.table.frozen import FrozenTable
from rilievo.ui.panels.table.rows_model import RowsModel
from rilievo.ui.theme.roles import Theme
from shortest import shortest

KEYS = (
    "mean", "median", "sd", "min", "max", "sum", "area", "x", "y", "perimeter", "circularity",
    "solidity",
)  # fmt: skip
SAMPLES, REGIONS = 10, 50_000


def made_up() -> list[RegionTable]:
    """Return tables with a million rows together."""
    rng = np.random.default_rng(5)
    ids = np.arange(1, REGIONS + 1)
    return [
        RegionTable(
            f"sample {k}", "", f"group {k % 3}", ("cell",), ids,
            {c: {key: rng.normal(100, 20, REGIONS) for key in KEYS} for c in ("a", "b")},
        )
        for k in range(SAMPLES)
    ]  # fmt: skip


def main() -> None:
    """Print times beside their goals."""
    application = QApplication([])
    tables = made_up()
    print(f"made into rows: {shortest(lambda: Rows(tables)):.2f} s")
    rows = Rows(tables)
    for text, wish in (
        ("sorted by a number", RowQuery(order=(("mean", False),))),
        ("sorted by group and number", RowQuery(order=(("group", False), ("area", True)))),
        ("filtered by two comparisons", RowQuery(expression="area > 110 and mean < 90")),
        ("searched for a word", RowQuery(search="sample 3")),
        ("a range of a column", RowQuery(ranges=(("sd", 90.0, 110.0),))),
        ("grouped with means", RowQuery(group="group")),
    ):
        print(f"{text}: {shortest(lambda wish=wish: arranged(rows, wish)):.2f} s (goal 0.5)")
    model = RowsModel(Theme())
    model.take(rows, arranged(rows, RowQuery(order=(("mean", False),))), RowQuery())

    def screen(first: int) -> None:
        for line in range(first, first + 12):
            for column in range(13):
                index = model.index(line, column)
                for role in (
                    Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.TextAlignmentRole,
                    Qt.ItemDataRole.ForegroundRole, Qt.ItemDataRole.FontRole,
                ):  # fmt: skip
                    model.data(index, role)

    print(f"a screenful asked for: {1000 * shortest(lambda: screen(500_000), 9):.2f} ms (goal 8)")
    table = FrozenTable(model, Theme())
    table.resize(900, 300)
    table.show()
    application.processEvents()
    bar = table.view.verticalScrollBar()
    steps = iter(range(1000, 900_000, 7001))

    def scroll() -> None:
        bar.setValue(next(steps))
        application.processEvents()

    frames = sorted(shortest(scroll, 1) for _ in range(60))
    print(f"a scroll painted: {1000 * frames[30]:.1f} ms in the median, "
          f"{1000 * frames[57]:.1f} ms at the 95th percentile")  # fmt: skip


if __name__ == "__main__":
    main()
