"""Draws docs/layers.svg: the packages as strata of terrain, the lowest first.

Run: python docs/make_layers.py
"""

from __future__ import annotations

import importlib
from pathlib import Path

# Paper, ink, hairline and the tints of the strata, as in the window.
GROUND, INK, FAINT, LINE, ACCENT = "#F3EFE6", "#26302E", "#5F645F", "#CFC8B8", "#9C5B2E"
TINTS = ("#EFE4CF", "#E9DCC4", "#E3D3B9", "#DCCBAE")
WIDTH, ROW, TOP, LEFT = 1000, 30, 64, 24
# Letters that fit beside a name.
MOST = 56
HALF = (WIDTH - 3 * LEFT) // 2


def packages(module: str) -> list[tuple[str, str]]:
    """Return the packages that the map in a docstring lists, with what each holds."""
    text = importlib.import_module(module).__doc__ or ""
    rows = [line for line in text.splitlines() if line[:1].isalpha() and "  " in line]
    return [(name, about.strip()) for name, about in (row.split(None, 1) for row in rows)]


def stratum(x: int, y: int, k: int, name: str, about: str) -> str:
    """Return one layer: a band whose upper edge is uneven, as ground is."""
    rise = [3, -2, 4, 0, -3, 2][k % 6]
    edge = f"M{x},{y} q{HALF // 4},{-rise} {HALF // 2},0 t{HALF - HALF // 2},0"
    fill = TINTS[k % len(TINTS)]
    short = about.split(";", maxsplit=1)[0].split(": each", maxsplit=1)[0]
    short = short if len(short) <= MOST else short[:MOST].rsplit(" ", 1)[0].rstrip(",:") + " …"
    return (
        f'<path d="{edge} v{ROW} h{-HALF} z" fill="{fill}" stroke="{LINE}"/>'
        f'<text x="{x + 12}" y="{y + 20}" class="name">{name}</text>'
        f'<text x="{x + 100}" y="{y + 20}" class="about">{short}</text>'
    )


def drawing() -> str:
    """Return the picture."""
    columns = [packages("rilievo.core"), packages("rilievo.ui")]
    height = TOP + ROW * max(map(len, columns)) + 36
    parts = []
    for k, (title, rows) in enumerate(
        zip(("rilievo.core: no Qt", "rilievo.ui: no computation"), columns, strict=True)
    ):
        x = LEFT + k * (HALF + LEFT)
        parts.append(f'<text x="{x}" y="34" class="title">{title}</text>')
        base = height - 24
        for i, (name, about) in enumerate(rows):
            parts.append(stratum(x, base - ROW * (i + 1), i, name, about))
    parts.append(
        f'<text x="{LEFT}" y="54" class="about">each layer knows only those below it</text>'
    )
    style = (
        f"text{{font-family:Inter,'DejaVu Sans',sans-serif;fill:{INK}}}"
        f".title{{font-size:16px;font-weight:600;fill:{ACCENT}}}"
        f".name{{font-size:13px;font-weight:600}}.about{{font-size:11px;fill:{FAINT}}}"
    )
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDTH} {height}" width="{WIDTH}" '
        f'height="{height}" role="img" aria-label="The packages in layers">'
        f"<style>{style}</style>"
        f'<rect width="{WIDTH}" height="{height}" fill="{GROUND}"/>{"".join(parts)}</svg>\n'
    )


if __name__ == "__main__":
    (Path(__file__).parent / "layers.svg").write_text(drawing(), encoding="utf-8")
