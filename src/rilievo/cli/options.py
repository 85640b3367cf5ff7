"""Options declared once: a command takes models of them, typer sees an option for each field."""

from __future__ import annotations

import dataclasses
import functools
import inspect
from collections.abc import Callable
from typing import Any, get_type_hints


def with_options(command: Callable[..., None]) -> Callable[..., None]:
    """Return a command as typer takes it: a dataclass among its parameters becomes its fields.

    Parameters
    ----------
    command : callable
        Parameters whose annotation is a dataclass are models of options; their fields are
        annotated as typer's parameters are. No two fields of a command share a name.

    Examples
    --------
    >>> @dataclasses.dataclass(frozen=True)
    ... class Reply:
    ...     name: str
    ...     loud: bool = False
    >>> @with_options
    ... def greet(word: str, reply: Reply) -> None:
    ...     print(word, reply.name.upper() if reply.loud else reply.name)
    >>> list(inspect.signature(greet).parameters)
    ['word', 'name', 'loud']
    >>> greet(word="Hello,", name="Ada", loud=True)
    Hello, ADA
    """
    models: dict[str, Any] = {}
    parameters: list[inspect.Parameter] = []
    for name, parameter in inspect.signature(command, eval_str=True).parameters.items():
        if not dataclasses.is_dataclass(parameter.annotation):
            parameters.append(parameter.replace(kind=inspect.Parameter.KEYWORD_ONLY))
            continue
        models[name] = parameter.annotation
        hints = get_type_hints(parameter.annotation, include_extras=True)
        for field in dataclasses.fields(parameter.annotation):
            is_needed = field.default is dataclasses.MISSING
            default = inspect.Parameter.empty if is_needed else field.default
            parameters.append(
                inspect.Parameter(
                    field.name,
                    inspect.Parameter.KEYWORD_ONLY,
                    default=default,
                    annotation=hints[field.name],
                )
            )

    @functools.wraps(command)
    def as_typed(**values: Any) -> None:
        made = {
            name: model(
                **{field.name: values.pop(field.name) for field in dataclasses.fields(model)}
            )
            for name, model in models.items()
        }
        command(**values, **made)

    as_typed.__signature__ = inspect.Signature(parameters)  # type: ignore[attr-defined]
    as_typed.__annotations__ = {p.name: p.annotation for p in parameters}
    return as_typed
