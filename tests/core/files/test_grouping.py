from __future__ import annotations

from pathlib import Path

import pytest

from rilievo.core.files.grouping import file_labels, group_by_folder, group_by_name, groups_for


@pytest.mark.parametrize(
    ("name", "expected"),
    [
        ("low-nitrogen-3.ome.tif", ("low-nitrogen", "3")),
        ("control_12.png", ("control", "12")),
        ("A1 03.fits", ("A1", "03")),
        ("plain.tif", ("", "")),
        ("17.tif", ("", "")),
    ],
)
def test_group_from_the_name(name: str, expected: tuple[str, str]) -> None:
    assert group_by_name(Path("x") / name) == expected


def test_group_from_the_folder_when_names_do_not_say() -> None:
    paths = [Path("day one/a.tif"), Path("day two/a.tif")]
    assert groups_for(paths) == [("day one", ""), ("day two", "")]
    assert group_by_folder(Path("x/y_z/img7b.tif")) == ("y_z", "7")
    assert groups_for([Path("a/p.tif"), Path("a/q.tif")]) == [("", ""), ("", "")]


def test_planes_of_one_file_are_called_as_it_is() -> None:
    paths = [Path("/d/a/stack.tif")] * 3 + [Path("/d/a/other.tif")]
    assert file_labels(paths) == ["stack.tif"] * 3 + ["other.tif"]
    apart = [Path("/d/a/stack.tif")] * 2 + [Path("/d/b/stack.tif")]
    assert file_labels(apart) == ["a/stack.tif"] * 2 + ["b/stack.tif"]
