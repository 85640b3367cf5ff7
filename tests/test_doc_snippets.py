"""Every Python snippet of the documents runs."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
import pytest

DOCS = Path(__file__).parent.parent / "docs"
_PYTHON = re.compile(r"```python\n(.*?)```", re.DOTALL)


def test_the_page_of_python_from_top_to_bottom(
    tmp_path: Path, write_tiff: object, monkeypatch: pytest.MonkeyPatch, blobs: np.ndarray
) -> None:
    import tifffile  # noqa: PLC0415

    rng = np.random.default_rng(0)
    monkeypatch.chdir(tmp_path)
    for name, light in (("fed_1", 1), ("fed_2", 1.1), ("starved_1", 2), ("starved_2", 2.2)):
        noise = rng.poisson(20, blobs.shape)
        tifffile.imwrite(f"{name}.tif", (blobs * light + noise).astype(np.uint16))
    known: dict[str, object] = {}
    snippets = _PYTHON.findall((DOCS / "python.md").read_text(encoding="utf-8"))
    assert len(snippets) >= 5
    for snippet in snippets:
        exec(compile(snippet, "docs/python.md", "exec"), known)  # noqa: S102
    assert set(Path().glob("*.*")) >= {Path("means.svg"), Path("report.html"), Path("mine.json")}
    assert known["units"]["mean"] == "counts"  # type: ignore[index]
