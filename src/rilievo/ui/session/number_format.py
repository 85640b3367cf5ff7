"""Numbers as people read them: sensible digits, thin spaces, a true minus, a dash for none."""

from __future__ import annotations

import math

from rilievo.core.image.number_scale import NumberScale

NARROW_SPACE = "\u202f"
MINUS = "\u2212"


def on_scale(value: float, scale: NumberScale) -> str:
    """Return an intensity as it is printed on a number scale."""
    return shown(scale.value(value))


def shown(value: float | None, digits: int = 4) -> str:
    """Return a number with about `digits` significant digits, whole numbers in full."""
    if value is None or math.isnan(value):
        return "–"
    if math.isinf(value):
        return "∞" if value > 0 else f"{MINUS}∞"
    if value == int(value) and abs(value) < 1e9:
        text = f"{int(value):,}"
    elif 1e-3 <= abs(value) < 1e9:
        decimals = max(0, digits - 1 - math.floor(math.log10(abs(value))))
        text = f"{value:,.{decimals}f}"
    else:
        text = f"{value:.{digits - 1}e}"
    return text.replace(",", NARROW_SPACE).replace("-", MINUS)


def rounded(value: float, span: float) -> float:
    """Return a number with digits for one part in ten thousand of a span, whatever its size.

    A level of 10 000 123.4 in data that spans 900 keeps its decimals; 0.123456789 loses some.
    """
    if not span > 0 or not math.isfinite(span):
        return value
    return round(value, max(0, 4 - math.floor(math.log10(span))))


def typed(value: float) -> str:
    """Return a number for a field that is typed into: short, exact enough, without spaces."""
    return f"{value:.12g}"


def parsed(text: str) -> float | None:
    """Return the number in a typed text, or None; decimal comma and spaces are understood."""
    plain = text.replace(MINUS, "-").replace(NARROW_SPACE, "").replace(" ", "")
    plain = plain.replace("\u2009", "").replace(",", ".")
    try:
        value = float(plain)
    except ValueError:
        return None
    return value if math.isfinite(value) else None


def duration(seconds: float) -> str:
    """Return a time span in words."""
    if seconds < 60:
        return f"{max(1, round(seconds))} s"
    return f"{round(seconds / 60)} min"
