"""Which quantities are measured: by search, by set, one by one, each with its definition."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QPoint, QSettings, QSize, Qt
from PyQt6.QtWidgets import (
    QComboBox,
    QInputDialog,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
)

from rilievo.core.measure import QUANTITIES, QUANTITY_FAMILIES
from rilievo.core.measure.quantity_sets import (
    READY_SETS,
    found_quantities,
    sets_from_json,
    sets_to_json,
)
from rilievo.ui.theme.style import scaled
from rilievo.ui.widgets.card import Card, faint, side_by_side

_SETTING = "quantity sets"
_HEIGHT = 236


class _QuantityList(QListWidget):
    """Quantities, each explained by its line of the definitions."""

    def topic_at(self, position: QPoint) -> str:
        """Return what explains the quantity at a position."""
        viewport = self.viewport()
        item = self.itemAt(position if viewport is None else viewport.mapFromParent(position))
        key = item.data(Qt.ItemDataRole.UserRole) if item is not None else None
        return f"quantities#{key}" if key in QUANTITIES else ""


class QuantitiesCard(Card):
    """Says which quantities are chosen by calling `choose` with all their keys."""

    def __init__(self, choose: Callable[[tuple[str, ...]], None]) -> None:
        super().__init__("Quantities", fold="quantities")
        self._choose = choose
        self._chosen: tuple[str, ...] = ()
        self._unit = ""
        self.search = QLineEdit()
        self.search.setPlaceholderText("Search: mean, width, p37 …")
        self.search.setClearButtonEnabled(True)
        self.search.setAccessibleName("Search quantities")
        self.search.textChanged.connect(lambda _: self._fill())
        self.sets = QComboBox()
        self.sets.setAccessibleName("Sets of quantities")
        self.sets.setFixedWidth(scaled(112))
        self.sets.activated.connect(lambda _: self.choose_set(self.sets.currentText()))
        self.keep = QPushButton("Keep …")
        self.keep.setToolTip("Keep the chosen quantities as a set of your own")
        self.keep.clicked.connect(self._ask_name)
        row = side_by_side(self.search, self.sets, self.keep)
        self.add(row)
        self.list = _QuantityList()
        self.list.setFixedHeight(scaled(_HEIGHT))
        self.list.setAccessibleName("Quantities")
        self.list.itemChanged.connect(self._on_item)
        self.list.currentItemChanged.connect(lambda *_: self._explain())
        self.add(self.list)
        self.about = faint("Choose a quantity to read its definition.")
        self.about.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.add(self.about)
        self._fill_sets()
        self._fill()

    # -- sets

    def own_sets(self) -> dict[str, tuple[str, ...]]:
        """Return the sets that the user kept."""
        return sets_from_json(str(QSettings().value(_SETTING, "{}")))

    def _fill_sets(self) -> None:
        self.sets.clear()
        self.sets.addItem("Sets")
        for name in (*READY_SETS, *self.own_sets()):
            self.sets.addItem(name)

    def choose_set(self, name: str) -> None:
        """Measure the quantities of a set."""
        keys = {**READY_SETS, **self.own_sets()}.get(name)
        if keys is not None:
            self._choose(keys)

    def keep_set(self, name: str) -> None:
        """Keep what is chosen as a set; a set of no quantities is taken away."""
        sets = {**self.own_sets(), name: self._chosen}
        QSettings().setValue(_SETTING, sets_to_json(sets))
        self._fill_sets()

    def _ask_name(self) -> None:
        name, good = QInputDialog.getText(self, "Keep a set", "Name of the set")
        if good and name.strip():
            self.keep_set(name.strip())

    # -- the list

    def show_chosen(self, keys: tuple[str, ...], unit: str) -> None:
        """Show which are measured; unit : of calibrated lengths."""
        self.set_about(f"{len(keys)} chosen")
        if (keys, unit) == (self._chosen, self._unit):
            return
        missing = set(keys) - {i.data(Qt.ItemDataRole.UserRole) for i in self._items()}
        self._chosen, refill = keys, unit != self._unit or bool(missing)
        self._unit = unit
        if refill:
            self._fill()
            return
        self.list.blockSignals(True)
        for item in self._items():
            key = item.data(Qt.ItemDataRole.UserRole)
            if key:
                item.setCheckState(self._state(key))
        self.list.blockSignals(False)

    def _items(self) -> list[QListWidgetItem]:
        items = [self.list.item(k) for k in range(self.list.count())]
        return [item for item in items if item is not None]

    def _state(self, key: str) -> Qt.CheckState:
        return Qt.CheckState.Checked if key in self._chosen else Qt.CheckState.Unchecked

    def _fill(self) -> None:
        self.list.blockSignals(True)
        self.list.clear()
        wanted = found_quantities(self.search.text())
        further = tuple(k for k in self._chosen if k not in tuple(QUANTITIES))
        if not self.search.text():
            wanted = (*wanted, *further)
        for family, title in QUANTITY_FAMILIES.items():
            members = [key for key in wanted if QUANTITIES[key].family == family]
            if not members:
                continue
            heading = QListWidgetItem(title)
            heading.setFlags(Qt.ItemFlag.NoItemFlags)
            heading.setSizeHint(QSize(0, 24))
            self.list.addItem(heading)
            for key in members:
                item = QListWidgetItem(QUANTITIES[key].heading(self._unit or "calibrated"))
                item.setData(Qt.ItemDataRole.UserRole, key)
                item.setFlags(
                    Qt.ItemFlag.ItemIsEnabled
                    | Qt.ItemFlag.ItemIsSelectable
                    | Qt.ItemFlag.ItemIsUserCheckable
                )
                item.setCheckState(self._state(key))
                item.setToolTip(QUANTITIES[key].definition)
                item.setSizeHint(QSize(0, 24))
                self.list.addItem(item)
        self.list.blockSignals(False)
        if not wanted:
            self.about.setText("No quantity has these words in its name or definition.")

    def _on_item(self, item: QListWidgetItem) -> None:
        key = item.data(Qt.ItemDataRole.UserRole)
        if key:
            self.choose(str(key), on=item.checkState() == Qt.CheckState.Checked)

    def choose(self, key: str, *, on: bool) -> None:
        """Measure a quantity, or no longer; the others keep their order."""
        if on == (key in self._chosen):
            return
        kept = tuple(k for k in self._chosen if k != key)
        self._choose((*kept, key) if on else kept)

    def _explain(self) -> None:
        item = self.list.currentItem()
        key = item.data(Qt.ItemDataRole.UserRole) if item is not None else None
        if not key:
            return
        quantity = QUANTITIES[str(key)]
        lines = [
            f"<b>{quantity.title}</b> <i>{quantity.symbol}</i>, {quantity.key}: "
            f"{quantity.definition}.",
            quantity.formula,
        ]
        if quantity.source:
            lines.append(quantity.source)
        if quantity.needs:
            lines.append(f"Needs {quantity.needs}.")
        self.about.setText("<br>".join(lines))
