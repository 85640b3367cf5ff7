"""What several tests have in common: study."""

from __future__ import annotations

from pathlib import Path


def some_files(folder: Path, names: list[str]) -> list[Path]:
    paths = []
    for name in names:
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(b"x")
        paths.append(path)
    return paths
