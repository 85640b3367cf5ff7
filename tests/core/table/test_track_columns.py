"""The column “track” of tables that are times of one stack."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from rilievo.core.regions.region_set import CLASS_STRIDE, RegionAnnotation
from rilievo.core.table.table import RegionTable, region_frame
from rilievo.core.table.track_columns import with_missing_tracks, with_tracks


def table(
    name: str, time: int, z: str, spots: list[tuple[int, float, float, float]], stack: str = "s"
) -> RegionTable:
    """spots : number of the region with its class, x, y, radius."""
    ids, x, y, radius = (np.array(column) for column in zip(*spots, strict=True))
    columns = {"x": x, "y": y, "pixel_count": np.pi * radius**2}
    return RegionTable(
        sample=name, file="s.tif", group="", classes=("cell", "spot"), ids=ids.astype(np.int64),
        columns={"gray": columns},
        attributes={"stack": stack, "time": str(time), **({"z": z} if z else {})},
    )  # fmt: skip


def tracks(tables: list[RegionTable]) -> list[list[str]]:
    return [
        [one.facts(region).attributes.get("track", "") for region in one.ids.tolist()]
        for one in tables
    ]


def test_each_stack_depth_and_class_is_followed_by_itself() -> None:
    second = CLASS_STRIDE + 1
    tables = [
        # Out of order, as names sort them.
        table("t10", 10, "1", [(1, 31, 10, 3), (2, 11, 10, 3), (second, 31, 11, 2)]),
        table("t2", 2, "1", [(1, 10, 10, 3), (2, 30, 10, 3), (second, 30, 11, 2)]),
        table("deep", 2, "2", [(1, 10, 10, 3)]),
        table("deep late", 10, "2", [(1, 10, 10, 3)]),
        table("other", 2, "1", [(1, 10, 10, 3)], "o"),
        table("other late", 10, "1", [(1, 11, 10, 3)], "o"),
    ]
    found = tracks(with_tracks(tables))
    assert found == [["2", "1", "3"], ["1", "2", "3"], ["4"], ["4"], ["1"], ["1"]]
    frame = region_frame(with_tracks(tables)).to_pandas()
    assert frame["track"].tolist() == ["2", "1", "3", "1", "2", "3", "4", "4", "1", "1"]
    assert frame["time"].tolist()[:4] == ["10", "10", "10", "2"]


def test_events_are_said_with_the_numbers_of_the_column() -> None:
    one = [(1, 14.0, 10.0, 6.0), (2, 60.0, 10.0, 4.0)]
    two = [(1, 10.0, 10.0, 4.0), (2, 19.0, 10.0, 4.0), (3, 60.0, 10.0, 4.0)]
    spots = [(CLASS_STRIDE + k, x, y, r) for k, x, y, r in one]
    later = [(CLASS_STRIDE + k, x, y, r) for k, x, y, r in two]
    found = with_tracks([
        table("a", 1, "", [(1, 5, 90, 3), *spots]), table("b", 2, "", [(1, 5, 90, 3), *later])
    ])  # fmt: skip
    events = {
        facts.attributes["track"]: facts.attributes["track event"]
        for facts in found[1].known.values()
        if "track event" in facts.attributes
    }
    assert events == {"4": "split from track 2"}


def test_what_is_known_of_regions_stays_and_others_are_left_alone() -> None:
    first, second = table("a", 1, "", [(1, 5, 5, 3)]), table("b", 2, "", [(1, 6, 5, 3)])
    named = RegionTable(
        **{**vars(first), "known": {1: RegionAnnotation(name="big", attributes={"dose": "2"})}}
    )
    found = with_tracks([named, second])
    assert found[0].facts(1).name == "big"
    assert found[0].facts(1).attributes == {"dose": "2", "track": "1"}
    without = RegionTable(**{**vars(second), "columns": {"gray": {"mean": np.array([1.0])}}})
    assert with_tracks([first, without]) == [first, without]
    alone = RegionTable(**{**vars(second), "attributes": {"time": "2"}})
    assert with_tracks([first, alone]) == [first, alone]


def test_only_tables_without_tracks_are_followed_before_they_are_saved() -> None:
    plain = [table(f"t{k}", k, "", [(1, 10 + k, 10, 3)]) for k in (1, 2)]
    assert tracks(with_missing_tracks(plain)) == [["1"], ["1"]]
    done = with_tracks(plain)
    assert all(a is b for a, b in zip(with_missing_tracks(done), done, strict=True))
    alone = [table("a", 1, "", [(1, 10, 10, 3)])]
    assert with_missing_tracks(alone)[0] is alone[0]
    assert with_missing_tracks([]) == []


def test_depths_are_followed_where_there_are_no_times() -> None:
    def deep(z: int, x: float) -> RegionTable:
        one = table(f"z{z}", 0, str(z), [(1, x, 10, 3), (2, 40 - x, 30, 3)])
        return replace(one, attributes={"stack": "s", "z": str(z)})

    found = tracks(with_tracks([deep(2, 11), deep(1, 10), deep(3, 12)]))
    assert found == [["1", "2"]] * 3
