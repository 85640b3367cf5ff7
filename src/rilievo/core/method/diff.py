"""What differs between two methods, line by line, in words."""

from __future__ import annotations

from dataclasses import dataclass

from rilievo.core.method.describe import (
    NOTHING,
    outline_lines,
    parts_of,
    setting_text,
    step_settings,
)
from rilievo.core.method.method import Method, StepUse
from rilievo.core.method.picks import Pick
from rilievo.core.method.step_edits import parameters_for, samples_apart


@dataclass(frozen=True)
class Difference:
    """One line of a comparison; `sample` is the one it concerns, empty for all."""

    part: str
    what: str
    one: str
    other: str
    sample: str = ""

    @property
    def differs(self) -> bool:
        """Whether the two sides say something else."""
        return self.one != self.other


def compared(before: Method, other: Method) -> list[Difference]:
    """Return every setting of two methods side by side, in the order of the work."""
    sides = dict(parts_of(before)), dict(parts_of(other))
    lines = _settings("Reading", sides[0]["Reading"], sides[1]["Reading"])
    lines += _steps(before, other)
    most = max(len(before.outlines), len(other.outlines))
    for index in range(most):
        both = [method.outlines[index : index + 1] for method in (before, other)]
        name = (both[1] or both[0])[0].region_class
        lines_of = [outline_lines(outline[0]) if outline else [] for outline in both]
        lines += _settings("Outline" if most == 1 else f"Outline {name}", lines_of[0], lines_of[1])
    lines += _settings("Measure", sides[0]["Measure"], sides[1]["Measure"])
    return lines + _exceptions(before, other) + _picks(before, other)


def differences(before: Method, other: Method) -> list[Difference]:
    """Return only what differs."""
    return [line for line in compared(before, other) if line.differs]


def _settings(
    part: str, before: list[tuple[str, str]], other: list[tuple[str, str]]
) -> list[Difference]:
    sides = dict(before), dict(other)
    names = list(dict.fromkeys([*sides[0], *sides[1]]))
    return [
        Difference(part, name, sides[0].get(name, NOTHING), sides[1].get(name, NOTHING))
        for name in names
    ]


def _pairs(before: Method, other: Method) -> list[tuple[StepUse | None, StepUse | None]]:
    """Steps that correspond: of one id and kind, else the next of that kind, in order."""
    rest = list(other.steps)
    pairs: list[tuple[StepUse | None, StepUse | None]] = []
    same_id = {(use.id, use.step): use for use in rest}
    taken = {use.id for use in before.steps if (use.id, use.step) in same_id}
    for use in before.steps:
        match = same_id.get((use.id, use.step))
        if match is None:
            match = next((u for u in rest if u.step == use.step and u.id not in taken), None)
        if match is not None:
            rest.remove(match)
        pairs.append((use, match))
    return pairs + [(None, use) for use in rest]


def _steps(before: Method, other: Method) -> list[Difference]:
    pairs = _pairs(before, other)
    lines = []
    for left, right in pairs:
        title = next(use.title for use in (left, right) if use is not None)
        if left is None or right is None:
            here, there = ("in it", "not in it") if left else ("not in it", "in it")
            lines.append(Difference(title, "The step", here, there))
        if left is not None and right is not None and left.title != right.title:
            lines.append(Difference(title, "Name", left.title, right.title))
        lines += _settings(
            title, step_settings(left) if left else [], step_settings(right) if right else []
        )
    both = [(left, right) for left, right in pairs if left and right]
    order = [other.steps.index(right) for _, right in both]
    if order != sorted(order):
        shown = [use.title for use in before.steps], [use.title for use in other.steps]
        lines.append(Difference("Steps", "Order", " → ".join(shown[0]), " → ".join(shown[1])))
    return lines


def _exceptions(before: Method, other: Method) -> list[Difference]:
    lines = []
    for sample in dict.fromkeys([*before.exceptions, *other.exceptions]):
        names = [
            (step_id, name)
            for method in (before, other)
            for step_id, changed in method.exception_for(sample).parameters.items()
            for name in changed
        ]
        part = f"Only for {sample}"
        for step_id, name in dict.fromkeys(names):
            title, left = _setting(before, sample, step_id, name)
            other_title, right = _setting(other, sample, step_id, name)
            lines.append(Difference(part, title or other_title, left, right, sample))
        counts = [len(method.exception_for(sample).edits) for method in (before, other)]
        if any(counts):
            left, right = (str(count) if count else NOTHING for count in counts)
            lines.append(Difference(part, "Regions changed by hand", left, right, sample))
    return lines


def exceptions_in_words(method: Method) -> list[tuple[str, str, str]]:
    """Return sample, step id and what differs there, for each step that differs in a sample."""
    found = []
    for use in method.steps:
        for sample, changed in samples_apart(method, use.id).items():
            settings = [_setting(method, sample, use.id, name) for name in changed]
            words = ", ".join(
                f"{title.removeprefix(f'{use.title}: ')} {text}" for title, text in settings
            )
            found.append((sample, use.id, f"{use.title}: {words}"))
    return found


def _setting(method: Method, sample: str, step_id: str, name: str) -> tuple[str, str]:
    """The title of a setting and its value for a sample, in words."""
    use = next((use for use in method.steps if use.id == step_id), None)
    if use is None or name not in type(use.parameters).model_fields:
        return "", NOTHING
    field = type(use.parameters).model_fields[name]
    value = getattr(parameters_for(method, step_id, sample), name)
    apart = name in method.exception_for(sample).parameters.get(step_id, {})
    text = setting_text(value, field) + ("" if apart else ", as all")
    return f"{use.title}: {(field.title or name).lower()}", text


def _picks(before: Method, other: Method) -> list[Difference]:
    sides = [
        {pick.number: (pick.sample or "", _pick_text(pick)) for pick in method.picks}
        for method in (before, other)
    ]
    return [
        Difference(
            "Picks",
            f"Pick {number}",
            sides[0].get(number, ("", NOTHING))[1],
            sides[1].get(number, ("", NOTHING))[1],
            (sides[0].get(number) or sides[1][number])[0],
        )
        for number in sorted(sides[0].keys() | sides[1].keys())
    ]


def _pick_text(pick: Pick) -> str:
    named = " · ".join(text for text in (pick.name, pick.specimen) if text)
    return f"{pick.size} px {pick.form} at {pick.x}, {pick.y}{' · ' + named if named else ''}"
