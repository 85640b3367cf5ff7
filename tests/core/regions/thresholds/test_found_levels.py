"""Each automatic threshold against its definition, computed value by value."""

from __future__ import annotations

import math

import numpy as np
import pytest

from rilievo.core.image.histogram import Histogram, histogram_of
from rilievo.core.image.image import Calibration, Plane, plane_from_native
from rilievo.core.method.class_definition import ThresholdUse
from rilievo.core.regions.thresholds import THRESHOLDS, automatic_levels
from rilievo.core.regions.thresholds.background_sigmas import mode_of_counts
from tests.core.helpers.thresholds_found import level


def planes(seed: int) -> list[Plane]:
    """Two overlapping populations in 8 bit, 16 bit and float with negatives."""
    rng = np.random.default_rng(seed)
    share = rng.uniform(0.1, 0.6)
    values = np.where(rng.random((24, 25)) < share, rng.normal(150, 25, (24, 25)),
                      rng.normal(60, 12, (24, 25)))  # fmt: skip
    eight = np.clip(np.round(values), 0, 255).astype(np.uint8)
    sixteen = np.clip(np.round(values * 200), 0, 65535).astype(np.uint16)
    return [
        plane_from_native(eight),
        plane_from_native(sixteen),
        Plane((values * 0.01 - 1).astype(np.float64)),
    ]


def dense(histogram: Histogram) -> np.ndarray:
    """The counts of all bins, also the empty ones."""
    counts = np.zeros(int(histogram.bins[-1]) + 1, np.int64)
    counts[histogram.bins] = histogram.counts
    return counts


def steps_of(histogram: Histogram) -> list[tuple[float, np.ndarray, np.ndarray]]:
    """Every cut: its level, and the bins below and above it with their counts."""
    counts = dense(histogram)
    k = np.arange(counts.size)
    cuts = []
    for cut in range(counts.size - 1):
        if counts[: cut + 1].sum() and counts[cut + 1 :].sum():
            edge = cut + (0 if histogram.levels else 1)
            cuts.append((histogram.first + edge * histogram.width, k[: cut + 1], k[cut + 1 :]))
    return cuts


def best_of(histogram: Histogram, score: object) -> float:
    """The middle of the first stretch of cuts with the highest score."""
    cuts = steps_of(histogram)
    scores = np.array([score(below, above) for _, below, above in cuts])  # type: ignore[operator]
    alike = np.flatnonzero(scores >= scores.max() - 1e-9 * max(1, abs(scores.max())))
    run = [int(alike[0])]
    for k in alike[1:]:
        if k != run[-1] + 1:
            break
        run.append(int(k))
    return cuts[(run[0] + run[-1]) // 2][0]


def small(plane: Plane) -> Histogram:
    """A full histogram with so few bins that each cut can be looked at by itself."""
    histogram = histogram_of(plane)
    counts = dense(histogram)
    if counts.size <= 400:
        return histogram
    factor = -(-counts.size // 400)
    bins, pooled = np.unique(
        np.repeat(np.arange(counts.size) // factor, counts), return_counts=True
    )
    width = histogram.width * factor
    return Histogram(
        bins, pooled, histogram.first, width, False, histogram.lowest, histogram.highest
    )


@pytest.mark.parametrize("seed", range(6))
def test_between_class_variance_cross_entropy_and_entropy(seed: int) -> None:
    for plane in planes(seed):
        h = small(plane)
        n = dense(h).astype(float)

        def variance(below: np.ndarray, above: np.ndarray, n: np.ndarray = n) -> float:
            w0, w1 = n[below].sum(), n[above].sum()
            m0, m1 = (below * n[below]).sum() / w0, (above * n[above]).sum() / w1
            return float(w0 * w1 * (m1 - m0) ** 2)

        def cross(below: np.ndarray, above: np.ndarray, n: np.ndarray = n) -> float:
            total = 0.0
            for part in (below, above):
                g = part + 1.0
                mean = (g * n[part]).sum() / n[part].sum()
                total += float((g * n[part]).sum() * math.log(mean))
            return total

        wide = h.by_spread()
        pooled = dense(wide).astype(float)

        def entropy(below: np.ndarray, above: np.ndarray, n: np.ndarray = pooled) -> float:
            total = 0.0
            for part in (below, above):
                p = n[part][n[part] > 0] / n[part].sum()
                total -= float((p * np.log(p)).sum())
            return total

        for way, score, bins in (
            ("between_class_variance", variance, h),
            ("cross_entropy", cross, h),
            ("maximum_entropy", entropy, wide),
        ):
            # The middle of an even number of cuts lies half a bin beside one of them.
            half = 1e-9 if bins.levels else 0.51
            assert level(way, h) == pytest.approx(best_of(bins, score), abs=half * bins.width), way


@pytest.mark.parametrize("seed", range(6))
def test_iterative_mean_by_its_own_pixels(seed: int) -> None:
    for plane in planes(seed):
        values = plane.pixels.ravel().astype(float)
        h = histogram_of(plane)
        if not h.levels:
            values = h.first + (np.floor((values - h.first) / h.width) + 0.5) * h.width
        t = values.mean()
        for _ in range(10_000):
            after = (values[values <= t].mean() + values[values > t].mean()) / 2
            if abs(after - t) < 1e-12:
                break
            t = after
        assert level("iterative_mean", h) == pytest.approx(t, abs=1.01 * h.width)
        found = level("iterative_mean", h)
        both = values[values <= found], values[values > found]
        assert found == pytest.approx((both[0].mean() + both[1].mean()) / 2, rel=1e-9)


@pytest.mark.parametrize("seed", range(6))
def test_triangle_is_farthest_from_the_line(seed: int) -> None:
    for plane in planes(seed):
        h = histogram_of(plane).by_spread()
        counts = dense(h)
        peak = int(np.argmax(counts))
        some = np.flatnonzero(counts)
        ends = [int(some[0]), int(some[-1])]
        end = ends[1] if ends[1] - peak >= peak - ends[0] else ends[0]
        best, where = -1.0, peak
        for k in range(min(peak, end), max(peak, end) + 1):
            # Distance of (k, counts[k]) from the line through peak and end, below it only.
            dx, dy = end - peak, float(counts[end] - counts[peak])
            away = (dy * (k - peak) - dx * float(counts[k] - counts[peak])) / math.hypot(dx, dy)
            away *= 1 if dx > 0 else -1
            nearer = abs(k - peak) < abs(where - peak)
            if away > best + 1e-9 or (abs(away - best) <= 1e-9 and nearer):
                best, where = away, k
        edge = where + (0 if h.levels else 1) - (0 if end > peak else 1)
        assert level("triangle", h) == pytest.approx(h.first + edge * h.width)


@pytest.mark.parametrize("seed", range(4))
def test_background_and_sigmas(seed: int) -> None:
    rng = np.random.default_rng(seed)
    values = rng.normal(500, 10, (200, 200))
    values[:30] += 800
    histogram = histogram_of(plane_from_native(np.round(values).astype(np.uint16)))
    found = level("background_sigmas", histogram, sigmas=4)
    assert found == pytest.approx(540, abs=4)
    below = level("background_sigmas", histogram, sigmas=-4)
    assert below < 500 < found


@pytest.mark.parametrize("as_floats", [False, True])
@pytest.mark.parametrize(
    ("noise", "most"), [(0.3, 2.4), (0.5, 1.5), (1.0, 1.1), (3.0, 1.06), (12.0, 1.06)]
)
def test_sigmas_of_the_background_are_true_ones(noise: float, most: float, as_floats: bool) -> None:
    """Whole counts with little noise: the level lies k true sigmas up, not 2 to 6 times as far."""
    rng = np.random.default_rng(3)
    for mean in (200.0, 200.3, 200.5):
        values = rng.normal(mean, noise, (400, 400))
        values[:40] += 900
        pixels = values if as_floats else np.round(values).astype(np.uint16)
        found = level(
            "background_sigmas", histogram_of(Plane(pixels)).with_pixels(pixels), sigmas=5
        )
        # Noise well below a count hardly shows in whole counts.
        assert 0.9 < (found - mean) / (5 * noise) < (1.06 if as_floats else most)


def test_the_mode_is_the_peak_of_the_smoothed_counts() -> None:
    """Point by point over a fine grid, with the kernel written out."""
    rng = np.random.default_rng(9)
    sample = np.round(np.concatenate([rng.normal(50, 3, 4000), rng.normal(80, 9, 2500)]))
    values, counts = np.unique(sample, return_counts=True)
    ordered = np.sort(sample)
    half = (ordered.size + 1) // 2
    spread = ((ordered[half - 1 :] - ordered[: ordered.size - half + 1]).min() + 1) / 1.349
    h = 0.8 ** (1 / 7) * spread * ordered.size ** (-1 / 7)
    grid = np.linspace(40, 90, 5001)
    density = (counts * np.exp(-0.5 * ((grid[:, None] - values) / h) ** 2)).sum(axis=1)
    assert np.array_equal(counts, np.unique(sample, return_counts=True)[1])
    found = mode_of_counts(histogram_of(Plane(sample[None, :])))
    assert found == pytest.approx(grid[density.argmax()], abs=max(h / 4, 0.5))


def test_percentile_factor_and_offset() -> None:
    histogram = histogram_of(plane_from_native(np.arange(100, dtype=np.uint8).reshape(10, 10)))
    assert level("percentile", histogram, percent=95) == pytest.approx(94.05)
    assert level("percentile", histogram, percent=100) == 99
    use = ThresholdUse.model_validate(
        {"way": "percentile", "parameters": {"percent": 50}, "factor": 2, "offset": 3}
    )
    assert use.level(histogram) == 2 * 49.5 + 3


@pytest.mark.parametrize("way", [k for k in THRESHOLDS if THRESHOLDS[k].automatic])
def test_a_constant_picture_is_not_parted(way: str) -> None:
    flat = histogram_of(Plane(np.full((4, 4), 3.0)))
    found = level(way, flat)
    assert math.isnan(found) or way == "percentile"
    assert math.isnan(level(way, Histogram.nothing()))


def test_all_levels_at_once_are_those_one_by_one() -> None:
    histogram = histogram_of(planes(3)[1])
    found = automatic_levels(histogram)
    assert set(found) == {k for k in THRESHOLDS if THRESHOLDS[k].automatic}
    assert all(found[way] == level(way, histogram) for way in found)


class _Given:
    """What a threshold may look at, for an array."""

    def __init__(self, values: np.ndarray, keep: str = "bright", **others: np.ndarray) -> None:
        self.values, self.keep, self._others = values, keep, others
        self.name = "s"
        self.calibration = Calibration(0.5, "µm")

    def histogram(self) -> Histogram:
        return histogram_of(Plane(self.values))

    def channel(self, name: str) -> np.ndarray:
        return self._others[name]


def kept(way: str, given: _Given, **parameters: object) -> np.ndarray:
    entry = THRESHOLDS[way]
    assert entry.mask is not None
    return entry.mask(given, entry.parameters.model_validate(parameters))  # type: ignore[arg-type]


def test_band_holds_both_ends() -> None:
    values = np.array([[1.0, 2.0, 3.0, 4.0, np.nan]])
    assert kept("band", _Given(values), lower=2, upper=3).tolist() == [
        [False, True, True, False, False]
    ]


@pytest.mark.parametrize("keep", ["bright", "dark"])
def test_local_thresholds_window_by_window(keep: str) -> None:
    rng = np.random.default_rng(4)
    values = rng.normal(100, 20, (12, 14))
    padded = np.pad(values, 3, mode="symmetric")
    side, k, largest = 7, 0.3, 60.0
    level_mean, level_sauvola = np.empty((2, 12, 14))
    for y in range(12):
        for x in range(14):
            window = padded[y : y + side, x : x + side]
            level_mean[y, x] = window.mean() - 4
            level_sauvola[y, x] = window.mean() * (1 + k * (window.std() / largest - 1))
    given_values = _Given(values, keep)
    for way, expected, parameters in (
        ("mean_minus_offset", level_mean, {"offset": 4}),
        ("sauvola", level_sauvola, {"k": k, "largest_sd": largest}),
    ):
        found = kept(way, given_values, window=side, **parameters)
        wanted = values > expected if keep == "bright" else values <= expected
        np.testing.assert_array_equal(found, wanted)
        # 3.5 µm are 7 px of half a micrometre.
        in_units = kept(way, given_values, window=3.5, window_in="unit", **parameters)
        np.testing.assert_array_equal(in_units, wanted)


def test_colour_ranges_and_hue_around_zero() -> None:
    red = np.array([[200.0, 10.0, 200.0, 50.0, np.nan]])
    green = np.array([[10.0, 200.0, 12.0, 50.0, 1.0]])
    blue = np.array([[20.0, 10.0, 5.0, 50.0, 1.0]])
    given_colours = _Given(red, red=red, green=green, blue=blue)
    ranges = [{"channel": "red", "lower": 100}, {"channel": "blue", "upper": 10}]
    assert kept("colour", given_colours, ranges=ranges).tolist() == [
        [False, False, True, False, False]
    ]
    hue = [{"channel": "hue", "lower": 350, "upper": 10}]
    found = kept("colour", given_colours, space="hsv", ranges=hue)
    assert found.tolist() == [[True, False, True, False, False]]
    assert not kept("colour", given_colours).any(), "nothing without a range"
