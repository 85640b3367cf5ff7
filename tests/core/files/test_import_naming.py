"""Names split into fields, files joined to samples, planes chosen."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from rilievo.core.files.import_naming import NamePattern, PatternError, propose, with_planes
from rilievo.core.files.sample_parts import read_parts
from rilievo.core.study.study import StudyState
from rilievo.core.study.study_file import load_study, save_study


def match(pattern: str, path: str) -> dict[str, str] | None:
    return NamePattern.parse(pattern).match(Path(path))


@pytest.mark.parametrize(
    ("pattern", "path", "fields"),
    [
        ("{sample}_{channel}", "x/cells-01_dye.tif", {"sample": "cells-01", "channel": "dye"}),
        ("{group}/{sample}", "x/treated/07.ome.tif", {"group": "treated", "sample": "07"}),
        (
            "{group}-{replicate#}_{dose}",
            "low-n-3_20mM.png",
            {"group": "low-n", "replicate": "3", "dose": "20mM"},
        ),
        ("*_{sample}", "run7_a_b.tif", {"sample": "a_b"}),
        ("{sample#}", "a7.tif", None),
        ("{sample}.{channel}", "a(1).dye.tif", {"sample": "a(1)", "channel": "dye"}),
    ],
)
def test_fields_of_a_name(pattern: str, path: str, fields: dict[str, str] | None) -> None:
    assert match(pattern, path) == fields


@pytest.mark.parametrize(
    ("pattern", "why"),
    [
        ("{sample", "partner"),
        ("plain", "needs a field"),
        ("{}", "needs a name"),
        ("{a}{b}", "between them"),
        ("{a}_{a}", "twice"),
        ("_".join(f"{{f{i}}}" for i in range(9)), "at most"),
    ],
)
def test_a_wrong_pattern_says_why(pattern: str, why: str) -> None:
    with pytest.raises(PatternError, match=why):
        NamePattern.parse(pattern)


def test_files_of_one_sample_are_joined_by_channel() -> None:
    paths = [Path(f"d/{s}_{c}.tif") for s in ("a", "b") for c in ("dye", "stain")]
    paths.append(Path("d/odd.tif"))
    found = propose(paths, NamePattern.parse("{sample}_{channel}"))
    assert [p.name for p in found] == ["a", "b", "odd"]
    assert [part.channel for part in found[0].parts] == ["dye", "stain"]
    assert found[2].problem == "does not fit the pattern"
    twice = propose([Path("a_1.tif"), Path("a_2.tif")], NamePattern.parse("{sample}_*"))
    assert "several files have these fields" in twice[0].problem


def test_attributes_group_and_replicate_come_along() -> None:
    (found,) = propose([Path("low-3_20mM.tif")], NamePattern.parse("{group}-{replicate}_{dose}"))
    assert (found.group, found.replicate, found.attributes) == ("low", "3", {"dose": "20mM"})
    numbered = propose([Path("a/01.tif"), Path("b/01.tif")], NamePattern.parse("{group}/{sample}"))
    assert [p.name for p in numbered] == ["a-01", "b-01"]


def test_planes_together_or_each_a_sample() -> None:
    (proposal,) = propose([Path("stack.tif")])
    names = ("page 1", "page 2", "page 3")
    (together,) = with_planes(proposal, names, "1,3", "together")
    assert together.parts[0].planes == ("page 1", "page 3")
    apart = with_planes(proposal, names, "", "apart")
    assert [p.name for p in apart] == ["stack page 1", "stack page 2", "stack page 3"]
    assert with_planes(proposal, names, "", "together") == [proposal]


def test_a_study_keeps_parts_and_does_not_take_a_file_twice(
    write_tiff: Callable[..., Path], tmp_path: Path
) -> None:
    pages = write_tiff("pages.tif", np.zeros((3, 6, 6), np.uint8), photometric="minisblack")
    other = write_tiff("other.tif", np.zeros((6, 6), np.uint8))
    (proposal,) = propose([pages])
    state = StudyState().with_samples(
        with_planes(proposal, ("page 1", "page 2", "page 3"), "2", "together")
    )
    state = state.with_files([other])
    state = state.with_overrides([state.samples[0].id], pixel_size=2.0, unit="mm", empty=0.0)
    assert state.with_files([other]) == state
    save_study(state, tmp_path / "s.rilievo")
    again = load_study(tmp_path / "s.rilievo").state
    assert again.samples == state.samples
    sample = read_parts(again.samples[0].sources, again.samples[0].name)
    assert sample.channel_names == ("page 2",)
