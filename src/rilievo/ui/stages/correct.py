"""Correct: the background, as a typed level or from a patch drawn on the picture."""

from __future__ import annotations

import math

from PyQt6.QtWidgets import QComboBox, QPushButton, QWidget

from rilievo.core.errors import MethodError
from rilievo.core.method import Method, SampleException, StepUse, step_use
from rilievo.core.parameters import Rectangle
from rilievo.core.steps import STEPS
from rilievo.core.steps.background_patch import PatchBackground
from rilievo.core.steps.repair_pixels import Repair, RepairPixels
from rilievo.ui.model import REPAIR_KEY, StudyModel
from rilievo.ui.numbers import shown
from rilievo.ui.stages.card import Card, Choice, NumberField, StagePanel, faint, side_by_side
from rilievo.ui.workbench import Workbench

PATCH_KEY, LEVEL_KEY = "background.patch", "background.level"
PATCH_ID = "background"
_NAMES = {LEVEL_KEY: "Level", PATCH_KEY: "Patch"}


def level_id(channel: str) -> str:
    """Return the id of the level step of a channel."""
    return f"level of {channel}"[:200]


def background_steps(method: Method) -> list[StepUse]:
    """Return the steps of the method that take a background off."""
    return [use for use in method.steps if use.step in (PATCH_KEY, LEVEL_KEY)]


class CorrectPanel(StagePanel):
    """Cards: the background and what it comes to."""

    def __init__(self, model: StudyModel, bench: Workbench) -> None:
        super().__init__()
        self._model, self._bench = model, bench
        self._drag = 20_000
        self._card = Card("Background", "subtracted from every pixel")
        options = [("none", "None", "Leave the pixels as they are")]
        options += [(key, _NAMES[key], STEPS[key].explanation) for key in (LEVEL_KEY, PATCH_KEY)]
        self.kind = Choice(options)
        self.kind.chosen.connect(self.choose_kind)
        self._card.add(self.kind)
        self._explanation = faint()
        self._card.add(self._explanation)
        self.level = NumberField(unit="native units")
        self._level_row = self._card.add_row("Level", self.level)
        self.level.entered.connect(self._type_level)
        self.statistic = QComboBox()
        self.statistic.addItems(["mean", "median"])
        self._statistic_row = self._card.add_row("Level from", self.statistic)
        self.statistic.activated.connect(lambda _: self._choose_statistic())
        self.scope = QComboBox()
        self.scope.addItems(["all samples", "this sample"])
        self.scope.setToolTip("Whom a drawn or moved patch is for")
        self._scope_row = self._card.add_row("Patch drawn for", self.scope)
        self._patch_text = faint()
        self._card.add(self._patch_text)
        self.clear_exception = QPushButton("Use the common patch here")
        self.clear_exception.setProperty("role", "link")
        self.clear_exception.clicked.connect(self._clear_exception)
        self._card.add(self.clear_exception)
        self.add_card(self._card)
        self._result = Card("What it takes off", "native units")
        self._numbers = faint()
        self._result.add(self._numbers)
        self.add_card(self._result)
        self._repairs = Card("Pixel repair", "replaced in the signal")
        self._repair_text = faint()
        self._repairs.add(self._repair_text)
        self.undo_repair, self.no_repairs = QPushButton("Take the last back"), QPushButton("All")
        self.undo_repair.clicked.connect(lambda: self._keep_repairs(-1))
        self.no_repairs.clicked.connect(lambda: self._keep_repairs(0))
        self._repairs.add(side_by_side(self.undo_repair, self.no_repairs, stretch=True))
        self.add_card(self._repairs)
        for signal in (model.focus_changed, bench.facts_changed):
            signal.connect(self.refresh_soon)
        model.changed.connect(self.refresh_soon)
        self.refresh()

    # -- the method

    @property
    def _patch_use(self) -> StepUse | None:
        uses = [use for use in self._model.state.method.steps if use.step == PATCH_KEY]
        return uses[0] if uses else None

    def _level_use(self, channel: str) -> StepUse | None:
        return next(
            (use for use in self._model.state.method.steps if use.id == level_id(channel)), None
        )

    @property
    def current_kind(self) -> str:
        """The kind of background in the method."""
        uses = background_steps(self._model.state.method)
        return uses[0].step if uses else "none"

    def choose_kind(self, kind: str) -> None:
        """Replace the background by another kind."""
        if kind == self.current_kind:
            return
        method = self._model.state.method
        for use in background_steps(method):
            method = method.without_step(use.id)
        if kind == PATCH_KEY:
            method = method.with_step(step_use(PATCH_ID, PATCH_KEY))
        elif kind == LEVEL_KEY:
            method = self._with_levels(method)
        name = _NAMES.get(kind, "none")
        self._model.change_method(f"Background: {name.lower()}", method)

    def _with_levels(self, method: Method) -> Method:
        """One level a channel, starting at what the patch gave or at the median."""
        for channel, level in self._first_levels().items():
            use = step_use(level_id(channel), LEVEL_KEY, level=round(level, 2))
            method = method.with_step(use.model_copy(update={"channels": (channel,)}))
        return method

    def _first_levels(self) -> dict[str, float]:
        """A level for every channel of every sample; the focused sample is asked first."""
        levels: dict[str, float] = {}
        focused = self._model.sample_id
        for sample_id in sorted(self._bench.samples, key=lambda i: i != focused):
            facts = self._bench.facts.get(sample_id)
            for channel in self._bench.samples[sample_id].channel_names:
                patch = facts.reports.get(PATCH_ID, {}).get(channel, {}) if facts else {}
                native = facts.native.get(channel) if facts else None
                level = patch.get("level", native.quantile(0.5) if native else math.nan)
                levels.setdefault(channel, float(level) if math.isfinite(level) else 0.0)
        return levels

    def begin_drag(self) -> None:
        """Start a drag of the level: one entry of the undo list."""
        self._drag += 1

    def set_level(self, level: float, merge: int | None = None) -> None:
        """Set the level of the focused channel."""
        channel = self._model.channel
        if channel is None:
            return
        method = self._model.state.method
        if self.current_kind != LEVEL_KEY:
            for use in background_steps(method):
                method = method.without_step(use.id)
            method = self._with_levels(method)
        use = step_use(level_id(channel), LEVEL_KEY, level=level)
        method = method.with_step(use.model_copy(update={"channels": (channel,)}))
        self._model.change_method(
            "Set background level", method, self._drag if merge is None else merge
        )

    def _type_level(self, value: float | None) -> None:
        if value is not None:
            self.begin_drag()
            self.set_level(value)

    def _choose_statistic(self) -> None:
        use = self._patch_use
        if use is None:
            return
        parameters = {**use.parameters.model_dump(), "statistic": self.statistic.currentText()}
        self._replace_patch_step(use, parameters, "Change patch statistic")

    def _replace_patch_step(self, use: StepUse, parameters: dict[str, object], text: str) -> None:
        method = self._model.state.method
        self._model.change_method(text, method.with_step(step_use(use.id, use.step, **parameters)))

    def set_patch(self, patch: Rectangle) -> None:
        """Put the patch somewhere, for all samples or for the focused one."""
        use, entry = self._patch_use, self._model.entry
        if use is None or entry is None:
            return
        only_here = self.scope.currentIndex() == 1 and self.common_patch is not None
        method = self._model.state.method
        if only_here:
            exception = method.exception_for(entry.name)
            parameters = {**exception.parameters, use.id: {"patch": patch.model_dump()}}
            new = SampleException(parameters=parameters, rejected=exception.rejected)
            self._model.change_method(
                f"Move patch of {entry.name}", method.with_exception(entry.name, new)
            )
            return
        self._replace_patch_step(
            use, {**use.parameters.model_dump(), "patch": patch.model_dump()}, "Draw patch"
        )

    def _clear_exception(self) -> None:
        use, entry = self._patch_use, self._model.entry
        if use is None or entry is None:
            return
        method = self._model.state.method
        exception = method.exception_for(entry.name)
        parameters = {k: v for k, v in exception.parameters.items() if k != use.id}
        new = SampleException(parameters=parameters, rejected=exception.rejected)
        self._model.change_method("Use the common patch", method.with_exception(entry.name, new))

    # -- repairs

    def repairs(self) -> tuple[Repair, ...]:
        """Return the repairs of the focused sample."""
        entry, use = self._model.entry, self._repair_use
        if entry is None or use is None:
            return ()
        own = self._model.state.method.exception_for(entry.name).parameters.get(use.id, {})
        merged = {**use.parameters.model_dump(), **own}
        return RepairPixels.model_validate(merged).repairs

    @property
    def _repair_use(self) -> StepUse | None:
        return next((u for u in self._model.state.method.steps if u.step == REPAIR_KEY), None)

    def _keep_repairs(self, upto: int) -> None:
        """Keep the first repairs of the focused sample; the step goes with the last one."""
        entry, use, kept = self._model.entry, self._repair_use, self.repairs()[:upto]
        if entry is None or use is None:
            return
        method = self._model.state.method
        exception = method.exception_for(entry.name)
        parameters = {k: v for k, v in exception.parameters.items() if k != use.id}
        if kept:
            parameters[use.id] = {"repairs": [one.model_dump() for one in kept]}
        new = SampleException(parameters=parameters, rejected=exception.rejected)
        method = method.with_exception(entry.name, new)
        if not any(use.id in e.parameters for e in method.exceptions.values()):
            method = method.without_step(use.id)
        self._model.change_method("Take repairs back", method)

    def _show_repairs(self) -> None:
        repairs = self.repairs()
        self._repairs.setVisible(self._repair_use is not None)
        last = [
            f"x {one.x}, y {one.y}: "
            + ("median of neighbours" if one.value is None else shown(one.value, 6))
            for one in repairs[-4:]
        ]
        count = sum(one.width * one.height for one in repairs)
        lines = [f"{count} pixels of this sample are replaced.", *last]
        self._repair_text.setText("\n".join(lines))
        self.undo_repair.setEnabled(bool(repairs))
        self.no_repairs.setEnabled(bool(repairs))

    # -- what is shown

    @property
    def common_patch(self) -> Rectangle | None:
        """The patch of all samples."""
        use = self._patch_use
        return use.parameters.patch if use and isinstance(use.parameters, PatchBackground) else None

    @property
    def patch(self) -> Rectangle | None:
        """The patch that counts for the focused sample."""
        entry, use = self._model.entry, self._patch_use
        if entry is None or use is None:
            return None
        try:
            uses = self._model.state.method.steps_for(entry.name, self._model.channel or "")
        except MethodError:
            return None
        parameters = next((u.parameters for u in uses if u.id == use.id), None)
        return parameters.patch if isinstance(parameters, PatchBackground) else None

    @property
    def has_exception(self) -> bool:
        """Whether the focused sample has a patch of its own."""
        entry, use = self._model.entry, self._patch_use
        if entry is None or use is None:
            return False
        return use.id in self._model.state.method.exception_for(entry.name).parameters

    def refresh(self) -> None:
        """Show the background of the method and what it comes to here."""
        kind = self.current_kind
        self.kind.set_chosen(kind)
        self._explanation.setText(STEPS[kind].explanation if kind in STEPS else "")
        self._explanation.setVisible(kind in STEPS)
        self._show_level(kind)
        self._show_patch(kind)
        self._show_numbers(kind)
        self._show_repairs()

    def _show_level(self, kind: str) -> None:
        self._level_row.setVisible(kind == LEVEL_KEY)
        use = self._level_use(self._model.channel or "")
        if use is not None:
            self.level.set_value(float(use.parameters.model_dump()["level"]))

    def _show_patch(self, kind: str) -> None:
        is_patch = kind == PATCH_KEY
        rows: list[QWidget] = [self._statistic_row, self._scope_row, self._patch_text]
        for row in rows:
            row.setVisible(is_patch)
        self.clear_exception.setVisible(is_patch and self.has_exception)
        use = self._patch_use
        if not is_patch or use is None:
            return
        self.statistic.setCurrentText(use.parameters.model_dump()["statistic"])
        patch = self.patch
        if patch is None:
            self._patch_text.setText("Drag a rectangle over an empty part of the picture.")
            return
        own = " · this sample's own" if self.has_exception else ""
        self._patch_text.setText(
            f"{patch.width} × {patch.height} px at x {patch.x}, y {patch.y}{own}. "
            "Drag inside it to move it, outside it to draw a new one."
        )

    def _show_numbers(self, kind: str) -> None:
        facts = self._bench.focused_facts
        if kind == "none" or facts is None:
            self._numbers.setText(
                "Nothing is taken off. Choose a level or a patch above; hold B to compare "
                "before and after."
            )
            return
        if facts.error and not facts.signal:
            self._numbers.setText(facts.error)
            return
        lines = []
        for by_channel in facts.reports.values():
            for channel, report in by_channel.items():
                if "level" not in report:
                    continue
                error = report.get("standard_error")
                spread = f" ± {shown(error, 2)}" if error is not None else ""
                pixels = f" from {shown(report['pixels'])} px" if "pixels" in report else ""
                lines.append(f"{channel}: {shown(report['level'], 5)}{spread}{pixels}")
        lines.append("Hold B on the picture to see it before.")
        self._numbers.setText("\n".join(lines))
