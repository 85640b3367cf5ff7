"""What a kind of plot is, and the registry of all of them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal, TypedDict, TypeVar, Unpack

from rilievo.core.registry import Registry

Input = Literal["histograms", "pictures"]
Option = Literal["curves", "fit", "other_quantity", "other_channel", "cumulative", "costs"]


def _no_hint(_question: Any) -> str:
    return ""


@dataclass(frozen=True)
class PlotKind:
    """One way to draw a comparison.

    draw : (panel) → where its dots are, so that they can be clicked; (figure, comparison, look,
    inputs) → (axes over all, dots) for one that fills the whole figure, `whole_figure`.
    inputs : what it shows beside the numbers. options : fields of the question that it uses.
    residuals : whether those of fitted curves stand below. hint : (question) → what to choose
    where it would have nothing to show; "" where it has.
    """

    key: str
    title: str
    explanation: str
    draw: Callable[..., Any]
    inputs: tuple[Input, ...] = ()
    options: tuple[Option, ...] = ()
    residuals: bool = False
    whole_figure: bool = False
    hint: Callable[[Any], str] = _no_hint


PLOTS: Registry[PlotKind] = Registry("plot", "rilievo.core.compare.plots", "rilievo.plots")

Draw = TypeVar("Draw", bound=Callable[..., Any])


class Details(TypedDict, total=False):
    """What a plot may say beyond what each must, see `PlotKind`."""

    inputs: tuple[Input, ...]
    options: tuple[Option, ...]
    residuals: bool
    whole_figure: bool
    hint: Callable[[Any], str]


def plot(
    key: str,
    *,
    title: str,
    explanation: str,
    order: float | None = None,
    **details: Unpack[Details],
) -> Callable[[Draw], Draw]:
    """Register the decorated function, see `PlotKind`. order : where it stands in lists."""

    def register(draw: Draw) -> Draw:
        PLOTS.add(key, PlotKind(key, title, explanation, draw, **details), order)
        return draw

    return register
