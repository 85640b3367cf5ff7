"""The Drops set: what was put in is in the files, and is found again, drop by drop."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas
import pytest

from rilievo.core.batch import measured
from rilievo.core.files import read_sample
from rilievo.core.files.reader import read_layout
from rilievo.core.image.stack import Frame
from rilievo.core.report.study_report import study_contents
from rilievo.core.study.study_file import load_study
from rilievo.core.table.table import region_frame
from rilievo.core.table.track_columns import with_tracks
from rilievo.demo import drops
from rilievo.demo.sets import write_demo_study

pytestmark = pytest.mark.slow


@pytest.fixture(scope="module")
def written(tmp_path_factory: pytest.TempPathFactory) -> Path:
    study, _ = write_demo_study("drops", tmp_path_factory.mktemp("drops"))
    return study


@pytest.fixture(scope="module")
def regions(written: Path) -> pandas.DataFrame:
    state = load_study(written).state
    return region_frame(with_tracks(measured(study_contents(state).outcomes))).to_pandas()


@pytest.fixture(scope="module")
def truth(written: Path) -> pandas.DataFrame:
    return pandas.read_csv(written.parent / "truth" / "drops.csv")


def test_the_light_and_the_lamp_are_in_the_pictures(written: Path, truth: pandas.DataFrame) -> None:
    path = written.parent / "amber.ome.tif"
    layout = read_layout(path)
    assert (layout.time, layout.seconds[3]) == (drops.TIMES, 3 * drops.STEP_S)
    y, x = np.mgrid[: drops.HEIGHT, : drops.WIDTH]
    for time in (0, 25):
        picture = read_sample(path, 0, Frame(time=time)).first.pixels - drops.OFFSET
        own = truth[(truth["stack"] == "amber") & (truth["time"] == time + 1)]
        away = np.min([np.hypot(x - d.x, y - d.y) for d in own.itertuples()], axis=0)
        glass = picture[away > 30].mean()
        assert glass == pytest.approx(
            drops.GLASS * np.exp(-time * drops.STEP_S / drops.LAMP_S), rel=0.01
        )
        for drop, relative in zip(own.itertuples(), own["relative light"], strict=True):
            inner = picture[np.hypot(x - drop.x, y - drop.y) < 9]
            assert inner.mean() / glass - 1 == pytest.approx(relative, rel=0.015)


def test_time_constants_and_places_are_found(
    regions: pandas.DataFrame, truth: pandas.DataFrame
) -> None:
    found = drops.matched(truth, regions)
    apart = found[~found["touches"]]
    assert apart["away"].max() < 0.3
    assert (apart["track"] != "").all()
    for dye in drops.DYES:
        of_dye = apart[apart["stack"] == dye.name]
        values = [drops.time_constant(one) for _, one in of_dye.groupby("drop")]
        assert np.mean(values) == pytest.approx(dye.seconds, rel=0.02)


def test_every_track_is_right_but_where_drops_touch_and_that_is_said(
    regions: pandas.DataFrame, truth: pandas.DataFrame
) -> None:
    found = drops.matched(truth, regions)
    touching = found[found["touches"]]
    assert set(touching["stack"]) == {drops.HOST[0]} and len(touching) >= 4
    first, last = touching["time"].min(), touching["time"].max()
    for (stack, drop), own in found.groupby(["stack", "drop"]):
        pair = stack == drops.HOST[0] and drop - 1 in (drops.WANDERER[1], drops.HOST[1])
        for part in (own["time"] < first, own["time"] > last) if pair else (own["time"] > 0,):
            assert own[part]["track"].nunique() == 1
    events = regions[regions["track event"] != ""]
    assert set(events["stack"]) == {drops.HOST[0]}
    told = " ".join(events["track event"])
    assert "merges into" in told and "split from" in told
    assert events["time"].astype(int).between(first - 1, last + 1).all()
