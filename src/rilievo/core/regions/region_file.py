"""Region sets as JSON of our own, described in docs/file-formats.md."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from pydantic import Field, ValidationError, field_validator

from rilievo.core.atomic_write import write_text_safely
from rilievo.core.errors import NotAnImage
from rilievo.core.parameters import Parameters, explain
from rilievo.core.regions.drawn_shapes import MOST_DRAWN, DrawnRegion, check_number
from rilievo.core.regions.pixel_shapes import StencilShape
from rilievo.core.regions.region_set import RegionSet, number_in_class
from rilievo.core.untrusted_json import JsonError, parsed, read_text

FORMAT = "rilievo-regions"
VERSION = 1
_MOST_BYTES = 500_000_000


class RegionFile(Parameters):
    """Regions of one class, positions in pixels of the image file."""

    region_class: str = Field("region", min_length=1, max_length=80)
    regions: tuple[DrawnRegion, ...] = Field((), max_length=MOST_DRAWN)

    _few_enough = field_validator("regions")(check_number)


def as_drawn(regions: RegionSet, sample: str | None = None) -> tuple[DrawnRegion, ...]:
    """Return found regions as painted ones, pixel by pixel, under their names or numbers."""
    result = []
    for region in regions.ids.tolist():
        mask, x, y = regions.mask_of(region)
        facts = regions.facts(region)
        result.append(
            DrawnRegion(
                shape=StencilShape.of(mask, x, y),
                name=facts.name or str(number_in_class(region)),
                group=facts.group,
                attributes=dict(facts.attributes),
                sample=sample,
            )
        )
    return tuple(result)


def save_regions(path: Path, region_class: str, regions: Sequence[DrawnRegion]) -> None:
    """Write regions. Raises FileUnreadable."""
    file = RegionFile(region_class=region_class, regions=tuple(regions))
    body: dict[str, Any] = {"format": FORMAT, "version": VERSION, **file.model_dump(mode="json")}
    write_text_safely(path, json.dumps(body, ensure_ascii=False) + "\n")


def load_regions(path: Path) -> RegionFile:
    """Read regions. Raises FileError with the position of what is wrong."""
    try:
        data = parsed(read_text(path, _MOST_BYTES, "a file of regions"))
    except JsonError as exc:
        raise NotAnImage(path, str(exc), "choose a file that Rilievo saved") from exc
    if not isinstance(data, dict) or data.pop("format", None) != FORMAT:
        raise NotAnImage(path, "holds no regions", f"choose one whose format is “{FORMAT}”")
    version = data.pop("version", None)
    if version != VERSION:
        raise NotAnImage(path, f"has version {version!r}", f"this Rilievo reads {VERSION}")
    try:
        return RegionFile.model_validate(data)
    except ValidationError as exc:
        problem = explain(exc).rstrip(".")
        raise NotAnImage(path, f"is damaged: {problem}", "save it again") from exc
