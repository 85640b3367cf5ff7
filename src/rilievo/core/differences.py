"""What differs between two methods, line by line, in words."""

from __future__ import annotations

from dataclasses import dataclass

from rilievo.core.describe import NOTHING, parts_of, shown_value, step_settings
from rilievo.core.method import Method, SampleException, StepUse
from rilievo.core.picks import Pick


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


def compared(one: Method, other: Method) -> list[Difference]:
    """Return every setting of two methods side by side, in the order of the work."""
    sides = dict(parts_of(one)), dict(parts_of(other))
    lines = _settings("Reading", sides[0]["Reading"], sides[1]["Reading"])
    lines += _steps(one, other)
    for part in ("Outline", "Measure"):
        lines += _settings(part, sides[0][part], sides[1][part])
    return lines + _exceptions(one, other) + _picks(one, other)


def differences(one: Method, other: Method) -> list[Difference]:
    """Return only what differs."""
    return [line for line in compared(one, other) if line.differs]


def _settings(
    part: str, one: list[tuple[str, str]], other: list[tuple[str, str]]
) -> list[Difference]:
    sides = dict(one), dict(other)
    names = list(dict.fromkeys([*sides[0], *sides[1]]))
    return [
        Difference(part, name, sides[0].get(name, NOTHING), sides[1].get(name, NOTHING))
        for name in names
    ]


def _pairs(one: Method, other: Method) -> list[tuple[StepUse | None, StepUse | None]]:
    """Steps that correspond: of one id and kind, else the next of that kind, in order."""
    rest = list(other.steps)
    pairs: list[tuple[StepUse | None, StepUse | None]] = []
    same_id = {(use.id, use.step): use for use in rest}
    taken = {use.id for use in one.steps if (use.id, use.step) in same_id}
    for use in one.steps:
        match = same_id.get((use.id, use.step))
        if match is None:
            match = next((u for u in rest if u.step == use.step and u.id not in taken), None)
        if match is not None:
            rest.remove(match)
        pairs.append((use, match))
    return pairs + [(None, use) for use in rest]


def _steps(one: Method, other: Method) -> list[Difference]:
    pairs = _pairs(one, other)
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
        shown = [use.title for use in one.steps], [use.title for use in other.steps]
        lines.append(Difference("Steps", "Order", " → ".join(shown[0]), " → ".join(shown[1])))
    return lines


def _exceptions(one: Method, other: Method) -> list[Difference]:
    lines = []
    for sample in dict.fromkeys([*one.exceptions, *other.exceptions]):
        left = _said(one, one.exception_for(sample))
        right = _said(other, other.exception_for(sample))
        for what in dict.fromkeys([*left, *right]):
            lines.append(
                Difference(
                    f"Only for {sample}",
                    what,
                    left.get(what, NOTHING),
                    right.get(what, NOTHING),
                    sample,
                )
            )
    return lines


def _said(method: Method, exception: SampleException) -> dict[str, str]:
    """What differs for a sample, in words."""
    titles = {use.id: use for use in method.steps}
    said = {}
    for step_id, changed in exception.parameters.items():
        use = titles[step_id]
        typed = type(use.parameters).model_validate({**dict(use.parameters), **changed})
        for name in changed:
            title = type(use.parameters).model_fields[name].title or name
            said[f"{use.title}: {title}"] = shown_value(getattr(typed, name))
    if exception.rejected:
        said["Regions rejected by hand"] = str(len(exception.rejected))
    return said


def _picks(one: Method, other: Method) -> list[Difference]:
    sides = [
        {pick.number: (pick.sample or "", _pick_text(pick)) for pick in method.picks}
        for method in (one, other)
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
