"""Units of length, and what one study does with files that use several of them."""

from __future__ import annotations

# What a study can be in; lengths are converted to it from all of the same kind.
METRIC_UNITS = ("µm", "nm", "mm", "cm")
STANDARD_UNIT = "µm"
LENGTH_UNITS = ("px", *METRIC_UNITS, "arcsec")

_MICROMETRES = {"pm": 1e-6, "Å": 1e-4, "nm": 1e-3, "µm": 1.0, "mm": 1e3, "cm": 1e4, "m": 1e6,
                "in": 25_400.0, "mil": 25.4}  # fmt: skip
_ARC_SECONDS = {"mas": 1e-3, "arcsec": 1.0, "arcmin": 60.0, "deg": 3600.0}
_WORDS = {
    "um": "µm", "μm": "µm", "micron": "µm", "microns": "µm", "micrometer": "µm",
    "micrometre": "µm", "nanometer": "nm", "nanometre": "nm", "millimeter": "mm",
    "millimetre": "mm", "centimeter": "cm", "centimetre": "cm", "meter": "m", "metre": "m",
    "picometer": "pm", "picometre": "pm", "angstrom": "Å", "Å": "Å", "inch": "in",
    "arcsecond": "arcsec", "arcminute": "arcmin", "degree": "deg", "thou": "mil",
    "pixel": "px", "reference frame": "px",
}  # fmt: skip


def unit_name(text: str) -> str:
    """Return the unit as it is written here; one that is not known as it stands."""
    name = text.strip()
    return _WORDS.get(name, _WORDS.get(name.lower(), name))


def conversion(unit: str, to: str) -> float | None:
    """Return what a length in `unit` is multiplied by to be in `to`; None if there is no such."""
    if unit == to:
        return 1.0
    for table in (_MICROMETRES, _ARC_SECONDS):
        if unit in table and to in table:
            return table[unit] / table[to]
    return None


def is_metric(unit: str) -> bool:
    """Whether a unit is one of length, not of angles or pixels."""
    return unit in _MICROMETRES


def standard_unit(unit: str) -> str:
    """Return the unit that lengths in `unit` are kept in: µm, arc seconds, or itself."""
    if unit in _MICROMETRES:
        return STANDARD_UNIT
    return "arcsec" if unit in _ARC_SECONDS else unit
