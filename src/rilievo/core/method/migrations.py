"""Data of method files of earlier versions, made into what the present one reads."""

from __future__ import annotations

from typing import Any


def with_several_patches(data: Any) -> Any:
    """Return the data of a method before version 3, whose background had a single patch."""
    if isinstance(data, dict):
        changed = {key: with_several_patches(value) for key, value in data.items()}
        if "patch" in changed:
            patch = changed.pop("patch")
            changed["patches"] = [] if patch is None else [patch]
        return changed
    if isinstance(data, list):
        return [with_several_patches(value) for value in data]
    return data


def with_classes(data: Any) -> Any:
    """Return the data of a method before version 4, which had one class and a fixed clean-up.

    What is not as expected is left as it is, so that it is named when the method is checked.
    """
    if not isinstance(data, dict):
        return data
    changed = dict(data)
    outline = changed.pop("outline", None)
    name = "cell"
    if isinstance(outline, dict):
        outline = dict(outline)
        clean: list[dict[str, Any]] = []
        if outline.pop("fill_holes", True) is not False:
            clean.append({"cleaner": "fill_holes"})
        least, most = outline.pop("min_area", 0) or None, outline.pop("max_area", None)
        unit = outline.pop("area_in", "px")
        if least is not None or most is not None:
            quantity = "area" if unit == "px" else "area_unit"
            limits = {"quantity": quantity, "lower": least, "upper": most}
            clean.append({"cleaner": "keep", "parameters": limits})
        changed["outlines"] = [{**outline, "clean": clean}]
        name = outline.get("region_class", name)
    elif outline is not None:
        changed["outlines"] = outline
    exceptions = changed.get("exceptions")
    if isinstance(exceptions, dict):
        changed["exceptions"] = {
            sample: _with_edits(exception, name) for sample, exception in exceptions.items()
        }
    return changed


def _with_edits(exception: Any, region_class: str) -> Any:
    """The exception of a sample with its rejected pixels as edits."""
    if not isinstance(exception, dict) or "rejected" not in exception:
        return exception
    rest = {key: value for key, value in exception.items() if key != "rejected"}
    pixels = exception["rejected"]
    if not isinstance(pixels, list):
        return exception
    rest["edits"] = [
        {"kind": "reject", "region_class": region_class, "where": [_one_pixel(pixel)]}
        for pixel in pixels
    ]
    return rest


def _one_pixel(pixel: Any) -> Any:
    if not isinstance(pixel, list | tuple) or len(pixel) != 2:
        return pixel
    return {"kind": "stencil", "rows": [[pixel[1], pixel[0], pixel[0]]]}
