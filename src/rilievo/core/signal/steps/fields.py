"""Parameters that many steps have: lengths, sides of squares, sigmas. Their units stand here once.

A length in pixels of the file shrinks with the picture of a preview (`StepParameters.shrunk`).
"""

from __future__ import annotations

from typing import Any

from pydantic import Field


def length(
    default: float | None,
    title: str,
    description: str | None = None,
    *,
    least: float = 0,
    most: float,
    step: float = 0.5,
    further: bool = False,
) -> Any:
    """Return a length in pixels, from `least` to `most`; the arrow keys change it by `step`.

    A default of None is found by the step itself.
    """
    extra: dict[str, Any] = {"unit": "px", "step": step, "scales": True, "further": further}
    if default is None:
        extra["empty"] = "automatic"
    return Field(
        default, ge=least, le=most, title=title, description=description, json_schema_extra=extra
    )


def drawn(title: str, description: str) -> Any:
    """Return rectangles that are drawn on the picture, as many as one likes."""
    return Field(
        (),
        max_length=1000,
        title=title,
        description=f"drawn on the picture; {description}",
        json_schema_extra={"scales": True},
    )


def side(
    default: int,
    title: str = "Side",
    description: str = "of the square; made odd",
    *,
    least: int = 1,
    most: int,
    scales: bool = True,
) -> Any:
    """Return the odd side of a square of pixels.

    scales : whether the square shrinks in a preview; one around single pixels does not.
    """
    extra: dict[str, Any] = {"unit": "px", "step": 2, "odd": True}
    if scales:
        extra["scales"] = "odd"
    return Field(
        default, ge=least, le=most, title=title, description=description, json_schema_extra=extra
    )


def sigmas(
    default: float,
    title: str,
    description: str,
    *,
    most: float = 10,
    step: float = 0.1,
) -> Any:
    """Return a limit in robust sigmas."""
    return Field(
        default,
        ge=1,
        le=most,
        title=title,
        description=description,
        json_schema_extra={"unit": "sigma", "step": step},
    )
