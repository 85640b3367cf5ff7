"""Numbers as people read them: sensible digits, thin spaces, a true minus, a dash for none."""

from __future__ import annotations

import math

NARROW_SPACE = "\u202f"
MINUS = "\u2212"
_MOST_DECIMALS = 9


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


def shown_within(value: float, span: float) -> str:
    """Return a number with digits for about one part in a thousand of what the data span.

    Values of one picture so have the same decimals, whatever their size.
    """
    if not math.isfinite(value) or not span > 0 or not math.isfinite(span):
        return shown(value)
    decimals = max(0, 3 - math.floor(math.log10(span)))
    if decimals > _MOST_DECIMALS or abs(value) >= 1e9:
        return shown(value)
    text = f"{value:,.{decimals}f}"
    if float(text.replace(",", "")) == 0:
        text = text.lstrip("-")
    return text.replace(",", NARROW_SPACE).replace("-", MINUS)


def share_text(percent: float) -> str:
    """Return a share of pixels in percent: three digits, and no more zeros than one can read."""
    if 0 < percent < 0.01:
        return "< 0.01 %"
    if 99.99 < percent < 100:
        return "> 99.99 %"
    return f"{percent:.3g} %"


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


def full_number(value: float) -> str:
    """Return a number with all digits that mean something."""
    return f"{value:.10g}" if math.isfinite(value) else "undefined"


def percent_of(count: float, total: float) -> str:
    """Return a share of a whole in percent, in two digits."""
    share = 100 * count / total
    if share >= 10:
        return f"{share:.0f} %"
    return f"{share:.2g} %" if share >= 0.01 else "under 0.01 %"


def p_number(p: float) -> str:
    """Return “0.012”, “< 0.001”, or a dash where it is not known."""
    if math.isnan(p):
        return "–"
    return "< 0.001" if p < 0.001 else f"{p:.2g}" if p < 0.1 else f"{p:.2f}"


def p_text(p: float) -> str:
    """Return “p = 0.012” or “p < 0.001”."""
    if math.isnan(p):
        return "p not known"
    return f"p {p_number(p)}" if p < 0.001 else f"p = {p_number(p)}"
