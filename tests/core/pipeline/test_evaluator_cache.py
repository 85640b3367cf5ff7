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
from rilievo.core.pipeline import evaluator as evaluation
from rilievo.core.pipeline import picture_evaluator as pictures
from rilievo.core.pipeline import signal_evaluator as signals
from rilievo.core.pipeline.evaluator import Evaluator
from tests.core.helpers.large import WIDE


def test_a_large_plane_is_sketched_until_it_is_known(
    wide: Sample, monkeypatch: pytest.MonkeyPatch
) -> None:
    evaluator = Evaluator()
    monkeypatch.setattr(pictures, "SKETCH_FROM", 1_000_000)
    assert evaluator.is_sketch(wide, "ch1", None)
    evaluator.quick_pyramid(wide, "ch1", None)
    assert evaluator.is_sketch(wide, "ch1", None)
    exact = evaluator.pyramid(wide, "ch1", None)
    assert not evaluator.is_sketch(wide, "ch1", None)
    assert evaluator.quick_pyramid(wide, "ch1", None) is exact
    # What a step has changed is not in the file: it is sketched by the step at a coarse level.
    corrected = Method(steps=(step_use("b", "background.level", level=10.0),))
    assert evaluator.is_sketch(wide, "ch1", corrected)
    sketch = evaluator.quick_pyramid(wide, "ch1", corrected)
    signal = evaluator.pyramid(wide, "ch1", corrected)
    assert not evaluator.is_sketch(wide, "ch1", corrected)
    assert [level.shape for level in sketch.levels] == [level.shape for level in signal.levels]
    # The finest levels of a sketch are not known, so that nobody may print their numbers.
    finest = sketch.finest
    assert finest > 0
    np.testing.assert_allclose(sketch.levels[finest], signal.levels[finest], atol=0.01)


def test_a_signal_that_no_step_changes_needs_no_copy(wide: Sample) -> None:
    evaluator = Evaluator()
    plain = Method()
    native = evaluator.histogram(wide, "ch1", None)
    assert evaluator.histogram(wide, "ch1", plain) is native
    assert evaluator.pyramid(wide, "ch1", plain) is evaluator.pyramid(wide, "ch1", None)
    assert evaluator.peek_signal(wide, "ch1", plain) is None


def test_checks_and_derived_channels_are_computed_once(
    make_sample: Callable[..., Sample], monkeypatch: pytest.MonkeyPatch
) -> None:
    sample = make_sample(WIDE[:64, :64], WIDE[64:128, :64])
    mix = Derived(name="m", terms=(Term(channel="ch1"), Term(channel="ch2", weight=-1)))
    method = Method(reading=Reading(derived=(mix,)))
    evaluator = Evaluator()
    made = evaluator.prepared(sample, method)
    assert evaluator.prepared(sample, method).channels["m"] is made.channels["m"]
    assert evaluator.prepared(made, method) is made
    told = evaluator.prepared(sample, method, MetadataOverrides(saturation=4000))
    assert told.content != made.content
    found, properties = evaluator.checks(made)
    monkeypatch.setattr(evaluation, "checks_and_properties", lambda *_: pytest.fail("looked again"))
    assert evaluator.checks(made) == (found, properties)
    # Whoever adds to the list does not add to the next one's.
    evaluator.checks(made)[0].clear()
    assert evaluator.checks(made)[0] == found


def test_checks_use_the_histograms_that_are_there(
    wide: Sample, monkeypatch: pytest.MonkeyPatch
) -> None:
    evaluator = Evaluator()
    expected = evaluator.checks(wide)[0]
    fresh = Evaluator()
    fresh.histogram(wide, "ch1", None)
    monkeypatch.setattr(signals, "histogram_of", lambda _: pytest.fail("counted again"))
    assert fresh.checks(wide)[0] == expected
    assert fresh.proposed_levels(wide) == MetadataOverrides()


def test_a_checksum_is_taken_once_while_the_file_stays(
    write_tiff: Callable[..., Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    parts = (Part(write_tiff("a.tif", WIDE[:20, :20])),)
    evaluator = Evaluator()
    sample = evaluator.sample(parts, "a")
    first = evaluator.checksum(parts, sample)
    told = evaluator.prepared(sample, Method(), MetadataOverrides(empty=1.0))
    with monkeypatch.context() as patch:
        patch.setattr(signals, "parts_checksum", lambda _: pytest.fail("took another"))
        assert evaluator.checksum(parts, told) == first
    write_tiff("a.tif", WIDE[:21, :20])
    assert evaluator.checksum(parts, evaluator.sample(parts, "a")) != first


def test_the_first_reading_takes_no_checksum(
    write_tiff: Callable[..., Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    path = write_tiff("a.tif", WIDE[:20, :20])
    whole = read_sample(path)
    with monkeypatch.context() as patch:
        patch.setattr(reading, "file_checksum", lambda _: pytest.fail("took a checksum"))
        quick = Evaluator().sample((Part(path),), "a")
    assert (quick.checksum, whole.checksum) == ("", parts_checksum((Part(path),)))
    assert quick.identity
    # A file that changes under the same name is another one.
    write_tiff("a.tif", WIDE[:21, :20])
    assert Evaluator().sample((Part(path),), "a").identity != quick.identity
