"""Changes of a method's steps: add, move, copy, switch, rename, reset, change for one sample."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pydantic import ValidationError

from rilievo.core.errors import MethodError
from rilievo.core.method.method import Method, SampleException, StepUse, step_use
from rilievo.core.parameters import Parameters
from rilievo.core.signal.steps import STEPS, StepParameters


def use_of(method: Method, step_id: str) -> StepUse:
    """Return a step of the method by its id."""
    return next(use for use in method.steps if use.id == step_id)


def new_id(method: Method, key: str) -> str:
    """Return an id for a further step of a kind."""
    taken = {use.id for use in method.steps}
    base = key.rpartition(".")[2]
    number = 1
    while (name := base if number == 1 else f"{base} {number}") in taken:
        number += 1
    return name


def added(method: Method, key: str, **parameters: Any) -> tuple[Method, str]:
    """Return the method with a step at its end, and the step's id."""
    use = step_use(new_id(method, key), key, **parameters)
    return method.with_step(use), use.id


def moved(method: Method, step_id: str, to: int) -> Method:
    """Return the method with a step moved to an index among the others, counted from 0."""
    use = use_of(method, step_id)
    rest = [step for step in method.steps if step.id != step_id]
    to = min(max(to, 0), len(rest))
    return method.changed(steps=(*rest[:to], use, *rest[to:]))


def duplicated(method: Method, step_id: str) -> tuple[Method, str]:
    """Return the method with a copy of a step after it, and the copy's id."""
    use = use_of(method, step_id)
    copy = use.model_copy(update={"id": new_id(method, use.step)})
    steps: list[StepUse] = []
    for step in method.steps:
        steps += [step, copy] if step.id == step_id else [step]
    exceptions = {
        sample: exception.model_copy(
            update={"parameters": {**exception.parameters, copy.id: exception.parameters[step_id]}}
        )
        for sample, exception in method.exceptions.items()
        if step_id in exception.parameters
    }
    exceptions = {**method.exceptions, **exceptions}
    return method.changed(steps=tuple(steps), exceptions=exceptions), copy.id


def with_use(method: Method, step_id: str, **fields: Any) -> Method:
    """Return the method with `on`, `name` or `channels` of a step changed. Raises MethodError."""
    use = use_of(method, step_id)
    try:
        changed = StepUse.model_validate({**dict(use), **fields})
    except ValidationError as exc:
        raise MethodError(problem_of(STEPS[use.step].parameters, exc)) from exc
    return method.with_step(changed)


def reset(method: Method, step_id: str) -> Method:
    """Return the method with a step as it is when it is added, for all samples."""
    use = use_of(method, step_id)
    plain = step_use(step_id, use.step)
    method = method.with_step(plain.model_copy(update={"name": use.name}))
    for sample in [
        name for name, exception in method.exceptions.items() if step_id in exception.parameters
    ]:
        method = without_exception(method, sample, step_id)
    return method


def with_parameters(
    method: Method, step_id: str, sample: str | None = None, **fields: Any
) -> Method:
    """Return the method with parameters of a step changed, for all samples or for one.

    Raises MethodError with a sentence for the parameter that is wrong.
    """
    use = use_of(method, step_id)
    kind = STEPS[use.step].parameters
    exception_values = (
        method.exception_for(sample or "").parameters.get(step_id, {}) if sample else {}
    )
    try:
        typed = kind.model_validate({**dict(use.parameters), **exception_values, **fields})
    except ValidationError as exc:
        raise MethodError(problem_of(kind, exc)) from exc
    if sample is None:
        return method.with_step(use.model_copy(update={"parameters": typed}))
    exception = method.exception_for(sample)
    plain, common = typed.model_dump(mode="json"), use.parameters.model_dump(mode="json")
    differing = {name: value for name, value in plain.items() if value != common[name]}
    parameters = {key: value for key, value in exception.parameters.items() if key != step_id}
    if differing:
        parameters[step_id] = differing
    return method.with_exception(
        sample, SampleException(parameters=parameters, edits=exception.edits)
    )


def without_exception(method: Method, sample: str, step_id: str) -> Method:
    """Return the method with a step of a sample as it is for all others."""
    exception = method.exception_for(sample)
    other_parameters = {key: value for key, value in exception.parameters.items() if key != step_id}
    return method.with_exception(
        sample, SampleException(parameters=other_parameters, edits=exception.edits)
    )


def parameters_for(method: Method, step_id: str, sample: str | None) -> StepParameters:
    """Return the parameters of a step that count for a sample."""
    use = use_of(method, step_id)
    exception_values = method.exception_for(sample).parameters.get(step_id, {}) if sample else {}
    if not exception_values:
        return use.parameters
    return STEPS[use.step].parameters.model_validate(
        {**use.parameters.model_dump(), **exception_values}
    )


def samples_apart(method: Method, step_id: str) -> dict[str, Mapping[str, Any]]:
    """Return the samples for which a step differs, with what differs."""
    return {
        sample: exception.parameters[step_id]
        for sample, exception in method.exceptions.items()
        if step_id in exception.parameters
    }


def taken_over(new: Method, present: Method) -> Method:
    """Return a method for a study in place of its present one; what is known of samples stays.

    Exceptions stay for steps of the same id and kind, rejected regions always, picks unless the
    new method has its own.
    """
    kinds = {use.id: use.step for use in present.steps}
    same = {use.id for use in new.steps if kinds.get(use.id) == use.step}
    exceptions = {}
    for sample, exception in present.exceptions.items():
        same_parameters = {key: value for key, value in exception.parameters.items() if key in same}
        left = SampleException(parameters=same_parameters, edits=exception.edits)
        if not left.is_nothing:
            exceptions[sample] = left
    return new.changed(
        exceptions={**exceptions, **new.exceptions}, picks=new.picks or present.picks
    )


def truncate_at(
    method: Method, step_id: str, *, before: bool = False, background: bool = False
) -> Method:
    """Return the method with the steps up to one, to look at what it does.

    before : without that step itself. background : with its background in place of the picture.
    """
    index = next(k for k, use in enumerate(method.steps) if use.id == step_id)
    steps = method.steps[: index if before else index + 1]
    step_ids = {use.id for use in steps}
    exceptions = {
        sample: exception.model_copy(
            update={"parameters": {k: v for k, v in exception.parameters.items() if k in step_ids}}
        )
        for sample, exception in method.exceptions.items()
    }
    shown = method.changed(steps=steps, exceptions=exceptions)
    return with_parameters(shown, step_id, result="background") if background else shown


def moves_pixels(method: Method) -> bool:
    """Whether a step of the method moves pixels, so that positions of the file lie elsewhere."""
    return any(STEPS[use.step].transform is not None for use in method.steps)


def only_moving(method: Method) -> Method:
    """Return the method with those steps alone that move pixels."""
    geometry_steps = [use for use in method.steps if STEPS[use.step].transform is not None]
    return method.model_copy(update={"steps": tuple(geometry_steps), "exceptions": {}})


def problem_of(kind: type[Parameters], error: ValidationError) -> str:
    """Return one sentence for what is wrong with a parameter: its range and what was given."""
    first = error.errors()[0]
    name = str(first["loc"][0]) if first["loc"] else ""
    field = kind.model_fields.get(name)
    title = field.title if field is not None and field.title else name or "The step"
    reason = str(first["msg"]).removeprefix("Value error, ").removeprefix("Input ")
    if field is None or first["type"] == "value_error":
        return f"{title} {reason.rstrip('.')}."
    low = high = None
    for limit in field.metadata:
        low = getattr(limit, "ge", getattr(limit, "gt", None)) if low is None else low
        high = getattr(limit, "le", getattr(limit, "lt", None)) if high is None else high
    extra = field.json_schema_extra
    unit = f" {extra['unit']}" if isinstance(extra, dict) and "unit" in extra else ""
    got = f"Got {first.get('input')!r}."
    if low is not None and high is not None:
        return f"{title} must be between {low:g} and {high:g}{unit}. {got}"
    return f"{title} {reason}. {got}"


def without_regions_read(method: Method) -> Method:
    """Return the method with no step that needs regions, also for single samples."""
    fields = {use.id: use.parameters.regions_field for use in method.steps}
    steps = tuple(
        use.model_copy(
            update={"parameters": use.parameters.model_copy(update={fields[use.id]: ""})}
        )
        if fields[use.id]
        else use
        for use in method.steps
    )
    exceptions = {
        sample: exception.model_copy(
            update={
                "parameters": {
                    step_id: {k: v for k, v in changed.items() if k != fields.get(step_id)}
                    for step_id, changed in exception.parameters.items()
                }
            }
        )
        for sample, exception in method.exceptions.items()
    }
    return method.changed(steps=steps, exceptions=exceptions)
