"""Changes of the list of region classes, each a new method."""

from __future__ import annotations

from typing import Any

from rilievo.core.errors import MethodError
from rilievo.core.method.class_definition import ClassDefinition
from rilievo.core.method.method import Method, SampleException
from rilievo.core.regions.derived_classes import OF_TWO

_NAMES = {"threshold": "object", "drawn": "mark", "label_image": "label"}


def added(method: Method, source: str, operation: str = "", of: str = "") -> Method:
    """Return the method with one more class. Raises MethodError.

    source : as in `ClassDefinition`. operation, of : how a derived class follows from the class
    `of`.
    """
    fields: dict[str, Any] = {"source": source, "channel": method.outline.channel}
    stem = _NAMES.get(source, f"{operation} of {of}")
    if source == "derived":
        others = [name for name in method.class_names if name != of]
        second = others[0] if operation in OF_TWO and others else ""
        fields["derivation"] = {"operation": operation, "a": of, "b": second}
    if source != "threshold":
        fields["clean"] = ()
    name, k = stem, 2
    while name in method.class_names:
        name, k = f"{stem} {k}", k + 1
    return method.changed(outlines=(*method.outlines, ClassDefinition(region_class=name, **fields)))


def renamed(method: Method, index: int, name: str) -> Method:
    """Return the method with a class named anew, also where others are made from it.

    Raises MethodError for a name that is taken.
    """
    old = method.class_names[index]
    if name in method.class_names:
        raise MethodError(f"There is a class “{name}” already; choose another name.")
    outlines = []
    for outline in method.outlines:
        made = outline.derivation
        changed = made.model_copy(
            update={key: name for key in ("a", "b") if getattr(made, key) == old}
        )
        outlines.append(outline.model_copy(update={"derivation": changed}))
    outlines[index] = outlines[index].model_copy(update={"region_class": name})
    fields = {use.id: use.parameters.regions_field for use in method.steps}
    steps = tuple(
        use.model_copy(
            update={"parameters": use.parameters.model_copy(update={fields[use.id]: name})}
        )
        if use.parameters.regions_read() == old
        else use
        for use in method.steps
    )
    exceptions = {
        sample: SampleException(
            parameters={
                step_id: {
                    key: name if (key, value) == (fields.get(step_id), old) else value
                    for key, value in changed.items()
                }
                for step_id, changed in exception.parameters.items()
            },
            edits=tuple(
                edit.model_copy(
                    update={
                        key: name for key in ("region_class", "to") if getattr(edit, key) == old
                    }
                )
                for edit in exception.edits
            ),
        )
        for sample, exception in method.exceptions.items()
    }
    return method.changed(steps=steps, outlines=tuple(outlines), exceptions=exceptions)


def without(method: Method, index: int) -> Method:
    """Return the method without a class and its edits by hand.

    Raises MethodError for the last class, and for one that another class or a step needs.
    """
    name = method.class_names[index]
    if len(method.outlines) == 1:
        raise MethodError("A method has at least one region class; change this one instead.")
    made = [outline.region_class for outline in method.outlines if name in outline.needs]
    if made:
        raise MethodError(f"“{made[0]}” is made from “{name}”; remove or change “{made[0]}” first.")
    needing = [use for use in method.steps if use.parameters.regions_read() == name]
    if needing:
        title = needing[0].title
        raise MethodError(f"The step “{title}” needs the class “{name}”; change the step first.")
    method = method.changed(outlines=(*method.outlines[:index], *method.outlines[index + 1 :]))
    for sample, exception in method.exceptions.items():
        edits = tuple(e for e in exception.edits if name not in (e.region_class, e.to))
        method = method.with_exception(
            sample, SampleException(parameters=exception.parameters, edits=edits)
        )
    return method


def with_known_levels(method: Method, other: Method) -> Method:
    """Return the method with the levels of all samples that another one has, the same but for them.

    A level that samples have in common is found from them; it is no setting of its own.
    """
    plain = [_without_level(outline) for outline in method.outlines]
    same = plain == [_without_level(outline) for outline in other.outlines]
    if method.outlines == other.outlines or not same or method.steps != other.steps:
        return method
    return method.model_copy(update={"outlines": other.outlines})


def _without_level(outline: ClassDefinition) -> ClassDefinition:
    if outline.threshold.pooled_level is None:
        return outline
    threshold = outline.threshold.model_copy(update={"pooled_level": None})
    return outline.model_copy(update={"threshold": threshold})
