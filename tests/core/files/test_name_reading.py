"""What names say by themselves, on the habits of many laboratories."""

from __future__ import annotations

from collections.abc import Iterable
from itertools import product
from pathlib import Path

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from rilievo.core.files.import_naming import NamePattern, propose
from rilievo.core.files.name_reading import read_names

Values = Iterable[object]


def names(pattern: str, **values: Values) -> list[str]:
    """Names for all combinations of values, in the order of the pattern."""
    keys = list(values)
    return [
        pattern.format(**dict(zip(keys, row, strict=True))) for row in product(*values.values())
    ]


HABITS = [
    (names("cells_{n:02}_{c}.tif", n=range(1, 5), c=("dapi", "gfp")), "{sample}_{channel}"),
    (
        names("{g}_{n}_{c}.tif", g=("ctrl", "low", "high"), n=(1, 2, 3), c=("lipid", "chl")),
        "{group}_{replicate#}_{channel}",
    ),
    (
        names("{g}{n}_d{d}_ch{c}.tif", g=("ctrl", "drug"), n=(1, 2, 3), d=(0, 3), c=(0, 1)),
        "{group}{replicate#}_d{day#}_ch{channel#}",
    ),
    (names("{g}/{n:03}.tif", g=("treated", "control"), n=range(5)), "{group}/{replicate#}"),
    (
        names("{g}/img_{n:03}_{c}.png", g=("treated", "control"), n=range(5), c=("red", "green")),
        "{group}/img_{replicate#}_{channel}",
    ),
    (names("A549_{d}uM_{n}.tif", d=(0, 5, 10), n=(1, 2, 3)), "A549_{dose#}uM_{replicate#}"),
    (names("{w}_w{c}.tif", w=("A01", "A02", "B01", "B02"), c=(1, 2)), "{well}_w{channel#}"),
    (names("night-{n}.fits", n=range(1, 5)), "{sample}"),
    (
        names("2031-05-0{d}_M31_{f}.fits", d=(1, 2, 3), f=("R", "G", "B")),
        "{date}_M31_{channel}",
    ),
    (
        names("slide{s}_{g}_{n}.tif", s=(1, 2), g=("WT", "KO"), n=(1, 2, 3)),
        "slide{slide#}_{group}_{replicate#}",
    ),
    (
        names("{g}-rep{n}-{t}h.tif", g=("mock", "virus"), n=(1, 2), t=(0, 24, 48)),
        "{group}-rep{replicate#}-{time#}h",
    ),
    (
        names("exp3_{g}_f{f:02}_{c}.tif", g=("A", "B"), f=range(3), c=("BF", "FITC")),
        "exp3_{group}_f{field#}_{channel}",
    ),
    (names("IMG_{n}.JPG", n=range(4100, 4106)), "{sample}"),
    (names("{g} {n}.tif", g=("leaf", "root"), n=(1, 2, 3)), "{group} {replicate#}"),
    (
        names("{g}_{d}mM_{n}_{c}.tif", g=("WT", "mut"), d=("0.5", 1), n=(1, 2), c=("ph", "yfp")),
        "{group}_{dose}mM_{replicate#}_{channel}",
    ),
    (
        names("swatch_{g}_{n}.png", g=("madder", "weld", "indigo"), n=(1, 2, 3)),
        "swatch_{group}_{replicate#}",
    ),
    (
        names("{g}_day{d}_{n}_C{c}.tif", g=("wt", "ko"), d=(1, 2), n=(1, 2, 3), c=(1, 2)),
        "{group}_day{day#}_{replicate#}_C{channel#}",
    ),
    (
        names("plate{p}_{w}_{n}.tif", p=(1, 2), w=("A1", "A2", "B1"), n=(1, 2)),
        "plate{plate#}_{well}_{replicate#}",
    ),
    (names("{n}_{g}.tif", g=("before", "after"), n=(1, 2, 3, 4)), "{replicate#}_{group}"),
    (names("sample {x}.tif", x=("one", "two", "three")), "{sample}"),
    (names("mock-{n}_{c}nm.tif", n=(1, 2, 3), c=(488, 561)), "{sample}_{channel#}nm"),
    (names("{g}_{n}.tif", g=("a", "b", "c"), n=range(1, 13)), "{group}_{replicate#}"),
    (
        names("20310502_{g}_{c}.tif", g=("wt", "ko", "het"), c=("DIC", "cfp", "yfp")),
        "{sample}_{channel}",
    ),
]  # fmt: skip


def paths(listed: Iterable[str]) -> list[Path]:
    return [Path("/data") / name for name in listed]


@pytest.mark.parametrize(("listed", "pattern"), HABITS, ids=[habit[0][0] for habit in HABITS])
def test_habits_are_read(listed: list[str], pattern: str) -> None:
    reading = read_names(paths(listed))
    assert reading is not None
    assert reading.pattern == pattern


@pytest.mark.parametrize(("listed", "pattern"), HABITS, ids=[habit[0][0] for habit in HABITS])
def test_the_pattern_takes_every_file_into_one_sample(listed: list[str], pattern: str) -> None:
    proposals = propose(paths(listed), NamePattern.parse(pattern))
    assert not any(one.problem for one in proposals)
    assert sorted(p.path for one in proposals for p in one.parts) == sorted(paths(listed))
    assert len({one.name for one in proposals}) == len(proposals)
    # Files of one sample differ in their channel, and all samples have the same ones.
    assert len({tuple(sorted(p.channel for p in one.parts)) for one in proposals}) == 1


def test_groups_days_and_channels_of_36_files() -> None:
    listed = names(
        "{g}_d{d}_{n}_{c}.tif", g=("ctrl", "low", "high"), d=(1, 2), n=(1, 2, 3), c=("bf", "gfp")
    )
    reading = read_names(paths(listed))
    assert reading is not None
    proposals = propose(paths(listed), NamePattern.parse(reading.pattern))
    assert len(listed) == 36 and len(proposals) == 18
    first = proposals[0]
    assert (first.group, first.replicate, dict(first.attributes)) == ("ctrl", "1", {"day": "1"})
    assert [part.channel for part in first.parts] == ["bf", "gfp"]


def test_a_design_without_words_for_channels_has_none() -> None:
    # Treatments by days are complete as well; nothing says that either is a channel.
    reading = read_names(paths(names("{g}_{d}.tif", g=("salt", "acid"), d=("mon", "tue"))))
    assert reading is None or "{channel}" not in reading.pattern


def test_a_channel_that_some_lack_is_none() -> None:
    listed = names("{n}_{c}.tif", n=(1, 2, 3), c=("dapi", "gfp"))[:-1]
    reading = read_names(paths(listed))
    assert reading is not None
    assert "channel" not in reading.pattern


@pytest.mark.parametrize(
    "listed",
    [
        [],
        ["one.tif"],
        ["a.tif", "a.png"],
        ["a_1.tif", "b.tif", "c-3-x.tif"],
        ["{odd}_1.tif", "{odd}_2.tif"],
    ],
)
def test_names_that_say_nothing(listed: list[str]) -> None:
    assert read_names(paths(listed)) is None


def test_a_few_names_of_another_shape_do_not_hide_the_others() -> None:
    listed = [*names("{g}_{n}.tif", g=("a", "b"), n=(1, 2, 3)), "notes on the day.tif"]
    reading = read_names(paths(listed))
    assert reading is not None
    assert reading.pattern == "{group}_{replicate#}"
    assert len(reading.paths) == 6


def test_a_meaning_is_changed_and_moves() -> None:
    reading = read_names(paths(names("{g}_{n}.tif", g=("a", "b"), n=(1, 2, 3))))
    assert reading is not None
    named = reading.with_meaning(2, "dish")
    assert named.pattern == "{group}_{dish#}"
    assert reading.with_meaning(2, "group").pattern == "*_{group#}"
    assert reading.with_meaning(0, "").with_meaning(2, "").pattern == ""


@given(
    st.lists(
        st.text(alphabet="ab12²_-. µ", min_size=1, max_size=9), min_size=1, max_size=12, unique=True
    )
)
@example(["1a", "2b"])
@example(["1.5a", "2b"])
@example(["a²", "b³"])
def test_any_names_are_read_or_not(listed: list[str]) -> None:
    files = [Path("/d") / f"{name}.tif" for name in listed]
    reading = read_names(files)
    if reading is not None and reading.pattern:
        pattern = NamePattern.parse(reading.pattern)
        assert all(pattern.match(path) is not None for path in reading.paths)


@pytest.mark.parametrize(
    ("text", "name", "fields"),
    [
        ("{rep#}{group}", "12ab", {"rep": "12", "group": "ab"}),
        ("{group}{rep#}", "ab12", {"group": "ab", "rep": "12"}),
        ("x{rep#}*", "x7left", {"rep": "7"}),
        ("{rep#}{group}", "12", None),
    ],
)
def test_numbers_and_words_side_by_side(
    text: str, name: str, fields: dict[str, str] | None
) -> None:
    assert NamePattern.parse(text).match(Path(f"{name}.tif")) == fields


def test_thousands_of_names_are_read() -> None:
    listed = names("{g}_d{d}_{n}_{c}.tif", g="abc", d=range(2), n=range(500), c=("bf", "gfp"))
    reading = read_names(paths(listed))
    assert reading is not None and len(reading.paths) == 6000
    assert reading.pattern == "{group}_d{day#}_{replicate#}_{channel}"
