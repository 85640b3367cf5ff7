from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.image.histogram import heights_between, histogram_frame, histogram_of
from rilievo.core.image.image import plane_from_native
from tests.core.helpers.large import RNG, WIDE


@pytest.mark.parametrize(
    "pixels",
    [
        WIDE,
        WIDE.astype(np.int32) - 70_000,
        (WIDE % 251).astype(np.uint8),
        np.where(RNG.random(WIDE.shape) < 0.01, np.nan, WIDE).astype(np.float32),
    ],
    ids=["16-bit", "signed", "8-bit", "float with gaps"],
)
def test_a_histogram_counted_in_pieces_is_the_histogram(pixels: np.ndarray) -> None:
    found = histogram_of(plane_from_native(pixels))
    finite = pixels[np.isfinite(pixels)].astype(np.float64)
    assert found.undefined == pixels.size - finite.size
    if found.levels:
        levels, counts = np.unique(finite, return_counts=True)
        np.testing.assert_array_equal(found.values, levels)
        np.testing.assert_array_equal(found.counts, counts)
    else:
        assert found.total == finite.size
        middle = float(np.median(finite))
        assert found.share_at_or_below(middle) == pytest.approx((finite <= middle).mean(), abs=1e-3)


@pytest.mark.parametrize("kind", ["counts", "share", "cumulative"])
@pytest.mark.parametrize(("low", "high"), [(0.0, 5000.0), (1000.0, 1040.0)])
def test_display_bins_hold_the_pixels_between_their_edges(
    kind: str, low: float, high: float
) -> None:
    histogram = histogram_of(plane_from_native(WIDE))
    edges, heights = heights_between(histogram, kind, low, high, 400)  # type: ignore[arg-type]
    assert len(edges) == len(heights) + 1 <= 401
    if high - low < 400:
        # Zoomed in, each bin is a level.
        np.testing.assert_allclose(np.diff(edges), 1)
        expected = np.array([np.count_nonzero(level == WIDE) for level in edges[:-1] + 0.5])
        at_or_above = np.array([np.count_nonzero(level >= WIDE) for level in edges[:-1] + 0.5])
        wanted = {
            "counts": expected,
            "share": expected / WIDE.size,
            "cumulative": at_or_above / WIDE.size,
        }
        np.testing.assert_allclose(heights, wanted[kind], atol=1e-9)
    elif kind == "cumulative":
        assert heights[-1] == pytest.approx(1, abs=1e-3)
        assert (np.diff(heights) >= 0).all()
    else:
        assert heights.sum() == pytest.approx(WIDE.size if kind == "counts" else 1, rel=1e-3)


def test_a_table_of_histograms_leaves_empty_bins_out() -> None:
    histogram = histogram_of(plane_from_native(np.array([[3, 3, 9]], np.uint8)))
    frame = histogram_frame({"one": histogram}).to_pandas()
    assert frame["level"].tolist() == [3, 9]
    assert frame["count"].tolist() == [2, 1]
    assert frame["cumulative"].tolist() == pytest.approx([2 / 3, 1])
    assert histogram_frame({}).to_pandas().empty
