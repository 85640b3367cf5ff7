"""What large images need: pieces, sketches, lazy regions, caches; the results stay the same."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from rilievo.core.files import read_sample
from rilievo.core.files import reader as reading
from rilievo.core.files.channel_preparation import Derived, MetadataOverrides, Reading, Term
from rilievo.core.files.sample_parts import Part, parts_checksum
from rilievo.core.image.image import Sample
from rilievo.core.method.method import Method, step_use
from rilievo.core.pipeline import analysis, analysis_cache, pyramids
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.pipeline.pyramids import is_sketch, pyramid_of, quick_pyramid
from tests.core.helpers.large import WIDE


def test_a_large_plane_is_sketched_until_it_is_known(
    wide: Sample, monkeypatch: pytest.MonkeyPatch
) -> None:
    cache = AnalysisCache()
    monkeypatch.setattr(pyramids, "SKETCH_FROM", 1_000_000)
    assert is_sketch(Analysis(wide, Method(), cache), "ch1")
    quick_pyramid(Analysis(wide, Method(), cache), "ch1")
    assert is_sketch(Analysis(wide, Method(), cache), "ch1")
    exact = pyramid_of(Analysis(wide, Method(), cache), "ch1")
    assert not is_sketch(Analysis(wide, Method(), cache), "ch1")
    assert quick_pyramid(Analysis(wide, Method(), cache), "ch1") is exact
    # What a step has changed is not in the file: it is sketched by the step at a coarse level.
    corrected = Method(steps=(step_use("b", "background.level", level=10.0),))
    assert is_sketch(Analysis(wide, corrected, cache), "ch1")
    sketch = quick_pyramid(Analysis(wide, corrected, cache), "ch1")
    signal = pyramid_of(Analysis(wide, corrected, cache), "ch1")
    assert not is_sketch(Analysis(wide, corrected, cache), "ch1")
    assert [level.shape for level in sketch.levels] == [level.shape for level in signal.levels]
    # The finest levels of a sketch are not known, so that nobody may print their numbers.
    finest = sketch.finest
    assert finest > 0
    np.testing.assert_allclose(sketch.levels[finest], signal.levels[finest], atol=0.01)


def test_a_signal_that_no_step_changes_needs_no_copy(wide: Sample) -> None:
    cache = AnalysisCache()
    plain = Method()
    native = Analysis(wide, Method(), cache).native_histogram("ch1")
    assert Analysis(wide, plain, cache).histogram("ch1") is native
    assert pyramid_of(Analysis(wide, plain, cache), "ch1") is pyramid_of(
        Analysis(wide, Method(), cache), "ch1"
    )
    assert Analysis(wide, plain, cache).peek_signal("ch1") is None


def test_checks_and_derived_channels_are_computed_once(
    make_sample: Callable[..., Sample], monkeypatch: pytest.MonkeyPatch
) -> None:
    sample = make_sample(WIDE[:64, :64], WIDE[64:128, :64])
    mix = Derived(name="m", terms=(Term(channel="ch1"), Term(channel="ch2", weight=-1)))
    method = Method(reading=Reading(derived=(mix,)))
    cache = AnalysisCache()
    made = Analysis(sample, method, cache).sample
    assert Analysis(sample, method, cache).sample.channels["m"] is made.channels["m"]
    assert Analysis(made, method, cache).sample is made
    told = Analysis(sample, method, cache, MetadataOverrides(saturation=4000)).sample
    assert told.content != made.content
    found, properties = Analysis(made, Method(), cache).checks()
    monkeypatch.setattr(analysis, "checks_and_properties", lambda *_: pytest.fail("looked again"))
    assert Analysis(made, Method(), cache).checks() == (found, properties)
    # Whoever adds to the list does not add to the next one's.
    Analysis(made, Method(), cache).checks()[0].clear()
    assert Analysis(made, Method(), cache).checks()[0] == found


def test_checks_use_the_histograms_that_are_there(
    wide: Sample, monkeypatch: pytest.MonkeyPatch
) -> None:
    cache = AnalysisCache()
    expected = Analysis(wide, Method(), cache).checks()[0]
    fresh = AnalysisCache()
    Analysis(wide, Method(), fresh).native_histogram("ch1")
    monkeypatch.setattr(analysis, "histogram_of", lambda _: pytest.fail("counted again"))
    assert Analysis(wide, Method(), fresh).checks()[0] == expected
    assert Analysis(wide, Method(), fresh).proposed_levels() == MetadataOverrides()


def test_a_checksum_is_taken_once_while_the_file_stays(
    write_tiff: Callable[..., Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    parts = (Part(write_tiff("a.tif", WIDE[:20, :20])),)
    cache = AnalysisCache()
    sample = cache.sample(parts, "a")
    first = cache.checksum(parts, sample)
    told = Analysis(sample, Method(), cache, MetadataOverrides(empty=1.0)).sample
    with monkeypatch.context() as patch:
        patch.setattr(analysis_cache, "parts_checksum", lambda _: pytest.fail("took another"))
        assert cache.checksum(parts, told) == first
    write_tiff("a.tif", WIDE[:21, :20])
    assert cache.checksum(parts, cache.sample(parts, "a")) != first


def test_the_first_reading_takes_no_checksum(
    write_tiff: Callable[..., Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    path = write_tiff("a.tif", WIDE[:20, :20])
    whole = read_sample(path)
    with monkeypatch.context() as patch:
        patch.setattr(reading, "file_checksum", lambda _: pytest.fail("took a checksum"))
        quick = AnalysisCache().sample((Part(path),), "a")
    assert (quick.checksum, whole.checksum) == ("", parts_checksum((Part(path),)))
    assert quick.identity
    # A file that changes under the same name is another one.
    write_tiff("a.tif", WIDE[:21, :20])
    assert AnalysisCache().sample((Part(path),), "a").identity != quick.identity
