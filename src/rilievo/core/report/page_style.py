"""The typeface of figures and reports, and the colours of their pictures."""

from __future__ import annotations

from pathlib import Path

from rilievo.core.view.render import Looks

# The typeface of window, figures and reports.
FONTS = Path(__file__).parent / "fonts"
# As in the window, on a neutral ground.
LOOKS = Looks(
    ground=(128, 128, 128),
    flood=(38, 84, 108),
    flood_strength=0.62,
    line=(250, 236, 208),
    halo=(22, 26, 24),
    left_out=(150, 170, 176),
    other=(126, 214, 198),
    selected=(255, 170, 92),
    undefined=(201, 138, 18),
)
