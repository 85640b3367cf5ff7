"""The method as data: ordered steps, outline, quantities, exceptions; load, save, validate.

How it is evaluated is in `pipeline.analysis`, how it is edited in `step_edits` and `class_edits`.
A method is immutable; changes make a new one. In files the paths of frames are relative to the
file's own folder.
"""

from __future__ import annotations

import hashlib
import json
import os
import weakref
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

from pydantic import (
    Field,
    SerializeAsAny,
    ValidationError,
    field_validator,
    model_validator,
)

from rilievo.core.atomic_write import write_text_safely
from rilievo.core.errors import MethodError
from rilievo.core.files.channel_preparation import Reading
from rilievo.core.measure import QUANTITIES, RING_GAP, RING_WIDTH, STANDARD_QUANTITIES
from rilievo.core.method.class_definition import ClassDefinition
from rilievo.core.method.method_html import in_words, method_html
from rilievo.core.method.migrations import with_classes, with_several_patches
from rilievo.core.method.picks import MOST_PICKS, Pick
from rilievo.core.parameters import Parameters, build, explain, nearest, with_typed_parameters
from rilievo.core.regions.manual_edits import HandEdit
from rilievo.core.signal.steps import STEPS, StepParameters
from rilievo.core.table.compartments import Pair
from rilievo.core.table.derived_columns import DerivedColumn
from rilievo.core.untrusted_json import JsonError, parsed, read_text
from rilievo.core.wording.lists import counted

FORMAT = "rilievo-method"
VERSION = 6
MOST_STEPS = 200
MOST_CLASSES = 100
_MOST_BYTES = 20_000_000


class StepUse(Parameters):
    """One step of a method.

    id : names the step within the method, for exceptions; stays when the order changes.
    name : what the user calls it; empty for the step's own title.
    channels : names of the channels it applies to; None means all.
    """

    id: str = Field(
        min_length=1, max_length=200, description="name of the step within the method, unique"
    )
    step: str = Field(description="key of the step")
    name: str = Field(
        "", max_length=200, description="name of the step, for people; empty: its own title"
    )
    on: bool = Field(True, description="a step that is off is kept and not applied")
    channels: tuple[str, ...] | None = Field(
        None, description="names of the channels it applies to; null: all"
    )
    parameters: SerializeAsAny[StepParameters]

    @model_validator(mode="before")
    @classmethod
    def _typed_parameters(cls, data: Any) -> Any:
        return with_typed_parameters(data, "step", STEPS, "step")

    @model_validator(mode="after")
    def _moves_all_channels(self) -> StepUse:
        if self.channels is not None and STEPS[self.step].resizes:
            raise ValueError("changes the size of the picture, so it must apply to all channels")
        return self

    @property
    def title(self) -> str:
        """What the step is called."""
        return self.name or STEPS[self.step].title

    def applies_to(self, channel: str) -> bool:
        """Whether it is on and meant for this channel."""
        return self.on and (self.channels is None or channel in self.channels)


class Measure(Parameters):
    """What is measured inside the regions."""

    channels: tuple[str, ...] | None = Field(None, description="None means every channel")
    quantities: tuple[str, ...] = Field(STANDARD_QUANTITIES, description="keys of what is measured")
    exclude_saturated: bool = Field(
        False,
        title="Leave out saturated pixels",
        description="pixels at the upper end of the file's values do not count",
    )
    exclude_empty: bool = Field(
        False,
        title="Leave out empty pixels",
        description="pixels at the lower end of the file's values do not count",
    )
    pairs: tuple[Pair, ...] = Field(
        (),
        max_length=50,
        title="Pairs of classes",
        description="two classes whose regions are compared: part and whole",
    )
    derived: tuple[DerivedColumn, ...] = Field(
        (),
        max_length=200,
        title="Derived columns",
        description="further columns, computed from the measured ones",
    )
    comparison_stars: tuple[tuple[float, float], ...] = Field(
        (), max_length=10_000, title="Comparison stars", description="where they stand, px"
    )
    ring_gap: float = Field(
        RING_GAP, ge=0, le=1000, title="Ring from", description="px outside of a region"
    )
    ring_width: float = Field(
        RING_WIDTH, gt=0, le=1000, title="Ring width", description="px of the local ring"
    )

    @field_validator("quantities")
    @classmethod
    def _known(cls, keys: tuple[str, ...]) -> tuple[str, ...]:
        unknown = [key for key in keys if key not in QUANTITIES]
        if unknown:
            raise ValueError(f"names an unknown quantity {unknown[0]!r}")
        if len(set(keys)) != len(keys):
            raise ValueError("names a quantity twice")
        return keys

    @model_validator(mode="after")
    def _distinct(self) -> Measure:
        names = [column.name for column in self.derived]
        taken = [name for name in names if name in QUANTITIES or names.count(name) > 1]
        if taken:
            raise ValueError(f"has a derived column “{taken[0]}” whose name is taken")
        return self

    @property
    def column_keys(self) -> tuple[str, ...]:
        """Return the keys of all columns that are measured: quantities, then pairs."""
        paired = [key for pair in self.pairs for key in pair.column_keys]
        return tuple(dict.fromkeys((*self.quantities, *paired)))


class SampleException(Parameters):
    """What differs for one sample.

    parameters : step id → the parameters that differ. edits : regions changed by hand.
    """

    parameters: dict[str, dict[str, Any]] = Field(
        default_factory=dict, description="id of a step → the parameters that differ"
    )
    edits: tuple[HandEdit, ...] = Field((), description="regions changed by hand")

    @property
    def is_nothing(self) -> bool:
        """Whether nothing differs after all."""
        return not self.parameters and not self.edits


_NOTHING_DIFFERS = SampleException()


class Method(Parameters):
    """The ordered steps that turn pixels into measurements.

    Examples
    --------
    >>> method = Method(name="Plain")
    >>> Method.from_json(method.to_json()) == method
    True
    """

    name: str = Field("Method", description="name of the method, for people")
    reading: Reading = Field(
        default_factory=Reading, description="what is made of the file's values before the steps"
    )
    steps: tuple[StepUse, ...] = Field(
        (), max_length=MOST_STEPS, description="corrections in the order in which they are applied"
    )
    outlines: tuple[ClassDefinition, ...] = Field(
        default_factory=lambda: (ClassDefinition(),),
        min_length=1,
        max_length=MOST_CLASSES,
        description="region classes: how regions are found",
    )
    measure: Measure = Field(
        default_factory=Measure, description="what is measured inside the regions"
    )
    exceptions: dict[str, SampleException] = Field(
        default_factory=dict, description="what differs for single samples, by name"
    )
    picks: tuple[Pick, ...] = Field(
        (), max_length=MOST_PICKS, description="places at which single values are read"
    )

    @model_validator(mode="after")
    def _consistent(self) -> Method:
        numbers = [pick.number for pick in self.picks]
        if len(set(numbers)) != len(numbers):
            raise ValueError("has two picks with the same number")
        ids = [use.id for use in self.steps]
        if len(set(ids)) != len(ids):
            raise ValueError("has two steps with the same id")
        for sample, exception in self.exceptions.items():
            for step_id, changed in exception.parameters.items():
                if step_id not in ids:
                    raise ValueError(f"has an exception of “{sample}” for no step {step_id!r}")
                use = self.steps[ids.index(step_id)]
                build(STEPS[use.step].parameters, {**use.parameters.model_dump(), **changed})
        self._check_classes()
        return self

    def _check_classes(self) -> None:
        """Raise ValueError for two classes of one name, or a class made from itself."""
        names = self.class_names
        if len(set(names)) != len(names):
            raise ValueError("has two region classes with the same name")
        for outline in self.outlines:
            seen, todo = set[str](), list(outline.needs)
            while todo:
                name = todo.pop()
                if name == outline.region_class:
                    raise ValueError(f"makes the class “{name}” from itself")
                if name and name not in names:
                    raise ValueError(
                        f"makes “{outline.region_class}” from “{name}”, which is not there"
                    )
                if name and name not in seen:
                    seen.add(name)
                    todo += self.outlines[names.index(name)].needs

    @classmethod
    def load(cls, path: str | Path) -> Method:
        """Read a method file.

        Raises MethodError with the position and the reason, FileMissing or FileUnreadable.
        """
        path = Path(path)
        try:
            text = read_text(path, _MOST_BYTES, "a method file")
        except JsonError as exc:
            raise MethodError(
                f"“{path.name}” is not a method file: it {exc}; choose one that Rilievo saved."
            ) from exc
        try:
            return cls.from_json(text, path.parent)
        except MethodError as exc:
            raise MethodError(f"“{path.name}”: {exc}") from exc

    @classmethod
    def from_json(cls, text: str, folder: Path | None = None) -> Method:
        """Return the method in a JSON text. Raises MethodError.

        folder : what the paths of frames are relative to; None leaves them as they stand.
        """
        try:
            data = parsed(text)
        except JsonError as exc:
            raise MethodError(f"It {exc}; choose a method that Rilievo saved.") from exc
        if not isinstance(data, dict) or data.pop("format", None) != FORMAT:
            raise MethodError(f"This is not a method; its “format” must be “{FORMAT}”.")
        version = data.pop("version", None)
        if not isinstance(version, int) or version < 1:
            raise MethodError(f"The method's “version” must be a whole number. Got {version!r}.")
        if version > VERSION:
            raise MethodError(
                f"The method has version {version}, this Rilievo knows up to {VERSION}; update it."
            )
        steps = data.get("steps")
        if isinstance(steps, list) and len(steps) > MOST_STEPS:
            raise MethodError(
                f"“steps” has {len(steps)} entries; a method has at most {MOST_STEPS}."
            )
        if version < 3:
            data = with_several_patches(data)
        if version < 4:
            data = with_classes(data)
        if folder is not None:
            base = folder.absolute()
            data = _with_files(data, lambda file: os.path.normpath(base / file))
        try:
            return cls.model_validate(data)
        except ValidationError as exc:
            raise MethodError(explain(exc, kind=cls)) from exc

    def to_json(self, folder: Path | None = None) -> str:
        """Return the method as readable JSON; `from_json` gives it back unchanged.

        folder : what paths of frames are made relative to; None leaves them as they are.
        """
        body: Any = {"format": FORMAT, "version": VERSION, **self.model_dump(mode="json")}
        if folder is not None:
            base = folder.absolute()
            body = _with_files(body, lambda file: Path(os.path.relpath(file, base)).as_posix())
        return json.dumps(body, indent=2, ensure_ascii=False) + "\n"

    def with_files(self, change: Callable[[str], str]) -> Method:
        """Return the method with every path of a frame or label image changed."""
        body = _with_files(self.model_dump(mode="json"), change)
        return type(self).model_validate(body)

    def save(self, path: str | Path) -> None:
        """Write the method file; the old one stays whole if that fails."""
        write_text_safely(Path(path), self.to_json(Path(path).parent))

    def changed(self, **fields: Any) -> Method:
        """Return the method with fields replaced and checked. Raises MethodError."""
        return checked_copy(self, **fields)

    def __repr__(self) -> str:
        steps = counted(len(self.steps), "step")
        return f"<Method “{self.name}”: {steps}, regions {', '.join(self.class_names)}>"

    def _repr_html_(self) -> str:
        boxes = [("step", use.title) for use in self.steps if use.on]
        boxes += [("class", name) for name in self.class_names]
        boxes.append(("measure", f"{len(self.measure.quantities)} quantities"))
        settings = [(use.title, in_words(use.parameters.model_dump())) for use in self.steps]
        for definition in self.outlines:
            level = {definition.threshold.entry.title: definition.threshold.parameters.model_dump()}
            way = (
                in_words(level) if definition.source == "threshold" else f"from {definition.source}"
            )
            cleaned = ", ".join(use.title for use in definition.clean if use.on)
            settings.append((definition.region_class, "; ".join(t for t in (way, cleaned) if t)))
        settings.append(("Measured", ", ".join(self.measure.quantities)))
        return method_html(self.name, boxes, settings)

    @property
    def outline(self) -> ClassDefinition:
        """The first region class."""
        return self.outlines[0]

    @property
    def class_names(self) -> tuple[str, ...]:
        """Names of the region classes in order."""
        return tuple(outline.region_class for outline in self.outlines)

    def class_index(self, name: str) -> int:
        """Return the index of a region class; of the first for "". Raises MethodError."""
        if not name:
            return 0
        if name not in self.class_names:
            hint = nearest(name, self.class_names) or f"; there are {', '.join(self.class_names)}."
            raise MethodError(f"The method has no class “{name}”{hint}")
        return self.class_names.index(name)

    def with_outline(self, outline: ClassDefinition, index: int = 0) -> Method:
        """Return the method with a region class replaced. Raises MethodError."""
        classes = list(self.outlines)
        classes[index] = outline
        return self.changed(outlines=tuple(classes))

    def exception_for(self, sample: str) -> SampleException:
        """Return what differs for a sample; an empty one when nothing does."""
        return self.exceptions.get(sample, _NOTHING_DIFFERS)

    def with_exception(self, sample: str, exception: SampleException) -> Method:
        """Return the method with what differs for one sample replaced."""
        rest = {name: value for name, value in self.exceptions.items() if name != sample}
        if not exception.is_nothing:
            rest[sample] = exception
        return self.changed(exceptions=rest)

    def with_step(self, use: StepUse) -> Method:
        """Return the method with the step of the same id replaced, or added at the end."""
        if any(old.id == use.id for old in self.steps):
            return self.changed(steps=tuple(use if old.id == use.id else old for old in self.steps))
        return self.changed(steps=(*self.steps, use))

    def without_step(self, step_id: str) -> Method:
        """Return the method without a step and without the exceptions from it."""
        method = self
        for sample, exception in self.exceptions.items():
            other_parameters = {key: v for key, v in exception.parameters.items() if key != step_id}
            method = method.with_exception(
                sample, SampleException(parameters=other_parameters, edits=exception.edits)
            )
        return method.changed(steps=tuple(use for use in self.steps if use.id != step_id))

    @property
    def of_regions(self) -> Method:
        """The part on which regions and their measurements depend: all but picks and names."""
        steps = tuple(u.model_copy(update={"name": ""}) if u.name else u for u in self.steps)
        outlines = tuple(
            o.model_copy(update={"picks": ()}) if o.picks else o for o in self.outlines
        )
        # Derived columns and light curves are worked out from what was measured.
        later = {"derived": (), "comparison_stars": ()}
        measure = self.measure.model_copy(update=later)
        return self.model_copy(
            update={
                "picks": (),
                "name": "",
                "steps": steps,
                "outlines": outlines,
                "measure": measure,
            }
        )

    def steps_for(self, sample: str, channel: str) -> tuple[StepUse, ...]:
        """Return the steps that act on a channel of a sample, exceptions filled in."""
        differing = self.exception_for(sample).parameters
        result = []
        for use in self.steps:
            if not use.applies_to(channel):
                continue
            if use.id in differing:
                merged = {**use.parameters.model_dump(), **differing[use.id]}
                typed = STEPS[use.step].parameters.model_validate(merged)
                use = use.model_copy(update={"parameters": typed})  # noqa: PLW2901
            result.append(use)
        return tuple(result)


def _with_files(data: Any, change: Callable[[str], str]) -> Any:
    """Return plain data with every path of an image file changed; they stand under “file”."""
    if isinstance(data, dict):
        return {
            key: change(value)
            if key == "file" and isinstance(value, str) and value
            else _with_files(value, change)
            for key, value in data.items()
        }
    if isinstance(data, list):
        return [_with_files(value, change) for value in data]
    return data


Model = TypeVar("Model", bound=Parameters)


def checked_copy(model: Model, **fields: Any) -> Model:
    """Return an immutable model with fields replaced and all of it checked again."""
    try:
        return type(model).model_validate({**dict(model), **fields})
    except ValidationError as exc:
        raise MethodError(explain(exc)) from exc


def step_use(step_id: str, key: str, **parameters: Any) -> StepUse:
    """Return a step for a method. Raises MethodError."""
    try:
        return StepUse.model_validate({"id": step_id, "step": key, "parameters": parameters})
    except ValidationError as exc:
        raise MethodError(explain(exc)) from exc


# The text of each model that is alive: models never change, and are named again and again.
_texts: dict[int, tuple[weakref.ref[Parameters], str]] = {}


def _as_json(part: Any) -> str:
    if not isinstance(part, Parameters):
        return json.dumps(part, sort_keys=True, default=str)
    number = id(part)
    remembered = _texts.get(number)
    if remembered is not None and remembered[0]() is part:
        return remembered[1]
    text = json.dumps(part.model_dump(mode="json"), sort_keys=True, default=str)
    _texts[number] = weakref.ref(part, lambda _: _texts.pop(number, None)), text
    return text


def digest(*parts: Any) -> str:
    """Return a short stable name of the models and values given."""
    text = f"[{', '.join(map(_as_json, parts))}]"
    return hashlib.sha256(text.encode()).hexdigest()[:24]
