"""Options that change the method, or say what files do not say: of `rilievo run` and `new`."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Annotated, Any

import typer

from rilievo.cli.console import WRONG_USAGE, stop

if TYPE_CHECKING:
    from rilievo.core.files.channel_preparation import MetadataOverrides
    from rilievo.core.files.sample_ref import SampleRef
    from rilievo.core.method.method import Method

_NUMBER = r"([+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?)"
_LENGTH = re.compile(rf"\s*{_NUMBER}\s*(?:[x×]\s*{_NUMBER}\s*)?([^\d\s.+-]\S*)\s*")


@dataclass(frozen=True, kw_only=True)
class MethodOptions:
    """Values in place of the method's, and in place of what files say."""

    sets: Annotated[
        list[str] | None,
        typer.Option(
            "--set",
            metavar="STEP.PARAM=VALUE",
            help="A value in place of the method's; may be repeated.",
        ),
    ] = None
    channels: Annotated[
        str, typer.Option("--channels", metavar="NAMES", help="Measure these channels: red,green.")
    ] = ""
    columns: Annotated[
        str,
        typer.Option("--columns", metavar="KEYS", help="Measure these quantities: area,mean,sum."),
    ] = ""
    pixel_size: Annotated[
        str,
        typer.Option(
            "--pixel-size", metavar="LENGTH", help="In place of the files': 0.65um, or 0.65x0.7um."
        ),
    ] = ""
    saturation: Annotated[
        float | None,
        typer.Option("--saturation", help="Values from here on are saturated, in counts."),
    ] = None

    def overrides(self) -> MetadataOverrides:
        """Return what is typed in place of what files say. Ends with wrong usage."""
        from rilievo.core.errors import MethodError  # noqa: PLC0415
        from rilievo.core.files.channel_preparation import NO_OVERRIDES  # noqa: PLC0415
        from rilievo.core.method.method import checked_copy  # noqa: PLC0415

        fields: dict[str, Any] = _size_of(self.pixel_size) if self.pixel_size else {}
        if self.saturation is not None:
            fields["saturation"] = self.saturation
        try:
            return checked_copy(NO_OVERRIDES, **fields) if fields else NO_OVERRIDES
        except MethodError as exc:
            raise stop(f"{exc} Write --pixel-size as 0.65um.", WRONG_USAGE) from exc

    def changed(self, method: Method) -> Method:
        """Return the method with the values that were typed. Raises MethodError."""
        from rilievo.core.method.method import checked_copy  # noqa: PLC0415
        from rilievo.core.method.typed_values import with_typed_values  # noqa: PLC0415

        fields: dict[str, Any] = {}
        if self.channels:
            fields["channels"] = _listed(self.channels)
        if self.columns:
            fields["quantities"] = _known_quantities(self.columns)
        if fields:
            method = method.changed(measure=checked_copy(method.measure, **fields))
        return with_typed_values(method, self.sets or ())


def apply_overrides(samples: Sequence[SampleRef], overrides: MetadataOverrides) -> list[SampleRef]:
    """Return the samples with what was typed in place of what their files say."""
    typed = overrides.model_dump(exclude_none=True)
    if not typed:
        return list(samples)
    return [replace(ref, overrides=ref.overrides.model_copy(update=typed)) for ref in samples]


def _size_of(text: str) -> dict[str, Any]:
    from rilievo.core.image.lengths import LENGTH_UNITS, unit_name  # noqa: PLC0415

    sizes_match = _LENGTH.fullmatch(text)
    sizes = [float(size) for size in sizes_match.groups()[:2] if size] if sizes_match else []
    unit = unit_name(sizes_match.group(3)) if sizes_match else ""
    if not sizes or unit not in LENGTH_UNITS or unit == "px":
        units = ", ".join(length_unit for length_unit in LENGTH_UNITS if length_unit != "px")
        raise stop(f"“{text}” is no pixel size; write it as 0.65um (units: {units})", WRONG_USAGE)
    return {
        "pixel_size": sizes[0],
        "unit": unit,
        **({"pixel_height": sizes[1]} if len(sizes) > 1 else {}),
    }


def _listed(text: str) -> tuple[str, ...]:
    return tuple(part.strip() for part in text.split(",") if part.strip())


def _known_quantities(text: str) -> tuple[str, ...]:
    from rilievo.core.errors import MethodError  # noqa: PLC0415
    from rilievo.core.measure import QUANTITIES  # noqa: PLC0415
    from rilievo.core.parameters import nearest  # noqa: PLC0415

    keys = _listed(text)
    for key in keys:
        if key not in QUANTITIES:
            hint = nearest(key, QUANTITIES) or "; “rilievo quantities” lists them."
            raise MethodError(f"There is no quantity “{key}”{hint}")
    return keys
