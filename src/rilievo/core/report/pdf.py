"""The report as PDF, from the same page: A4, numbered, with the program's own typeface."""

from __future__ import annotations

import logging
from pathlib import Path

from rilievo.core.atomic_write import write_bytes_safely
from rilievo.core.report.page_style import FONTS


def page_as_pdf(html: str) -> bytes:
    """Return a page as PDF; nothing is fetched."""
    import weasyprint  # noqa: PLC0415 (slow to import)
    from weasyprint.text.fonts import FontConfiguration  # noqa: PLC0415

    # Rules for the screen that paper has no use for are no one's concern here.
    logging.getLogger("weasyprint").setLevel(logging.ERROR)
    configuration = FontConfiguration()
    style = "".join(
        f'@font-face {{ font-family: Inter; src: url("{face.as_uri()}"); '
        f"font-weight: {_weight(face.stem)}; }}\n"
        for face in sorted(FONTS.glob("*.otf"))
    )
    sheet = weasyprint.CSS(string=style, font_config=configuration)
    document = weasyprint.HTML(string=html)
    content = document.write_pdf(stylesheets=[sheet], font_config=configuration)
    return bytes(content or b"")


def _weight(name: str) -> int:
    weights = {"Bold": 700, "SemiBold": 600, "Medium": 500}
    return next((weight for word, weight in weights.items() if name.endswith(word)), 400)


def write_pdf(html: str, path: Path) -> None:
    """Write a page as PDF. Raises FileUnreadable."""
    write_bytes_safely(path, page_as_pdf(html))
