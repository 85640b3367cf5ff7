"""p values in words."""

from __future__ import annotations

import math


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
