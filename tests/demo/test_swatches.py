"""The Swatches set: reflectances put in are found again, through light and camera curve."""

from __future__ import annotations

from pathlib import Path

import pandas
import pytest

from rilievo.core.files import read_sample
from rilievo.core.files.sample_ref import samples_for
from rilievo.core.method.picks import specimen_frame
from rilievo.core.pipeline.checks import check_sample
from rilievo.demo import swatches
from tests.core.helpers.measuring import run_batch

pytestmark = pytest.mark.slow


@pytest.fixture(scope="module")
def written(tmp_path_factory: pytest.TempPathFactory) -> list[Path]:
    return swatches.write_swatches(tmp_path_factory.mktemp("swatches"))


def test_one_photograph_is_also_a_lossy_copy(written: list[Path]) -> None:
    kinds = [check.text for check in check_sample(read_sample(written[3]))]
    assert any("compression has altered pixel values" in text for text in kinds)
    assert not any("altered" in check.text for check in check_sample(read_sample(written[0])))


def test_the_colour_of_each_swatch_is_recovered(written: list[Path]) -> None:
    outcomes = run_batch(samples_for(written[:3]), swatches.swatches_method())
    specimens = specimen_frame([row for outcome in outcomes for row in outcome.picks]).to_pandas()
    truth = pandas.read_csv(written[0].parent / "truth" / "swatches.csv")
    ratio = specimens[specimens["channel"] == "green / red"]
    joined = truth.merge(ratio, on=["sample", "specimen"])
    assert len(joined) == 21
    assert (joined["n"] == 3).all()
    deviation = joined["mean"] / (joined["green"] / joined["red"]) - 1
    assert deviation.abs().max() < 0.003
    # Without undoing the camera's curve the same ratio is far off.
    plain = swatches.swatches_method()
    plain = plain.changed(reading=plain.reading.model_copy(update={"undo_srgb": False}))
    raw = run_batch(samples_for(written[:1]), plain)
    coded = specimen_frame([row for outcome in raw for row in outcome.picks]).to_pandas()
    coded = coded[coded["channel"] == "green / red"].reset_index()
    first = truth[truth["sample"] == "bath-1"].reset_index()
    assert (coded["mean"] / (first["green"] / first["red"]) - 1).abs().max() > 0.3


def test_fading_goes_towards_undyed_wool() -> None:
    bath = swatches.BATHS[0]
    fresh, later, last = (swatches.reflectance(bath, hours) for hours in (0, bath.half_life, 1e4))
    assert fresh == pytest.approx(bath.fresh)
    # After one half-life half of the absorption is left: the geometric mean of both ends.
    assert later == pytest.approx((fresh * swatches.WOOL) ** 0.5)
    assert last == pytest.approx(swatches.WOOL)
