"""The same check of many samples is one line; what all have in common tells none of them apart."""

from __future__ import annotations

from rilievo.core.pipeline.checks import Check, Severity
from rilievo.core.pipeline.gathered_checks import gathered, name_of, telling

SAMPLES = [f"s{k}" for k in range(10)]


def check(
    sample: str, kind: str, severity: Severity = "caution", channel: str = "gfp", text: str = "."
) -> Check:
    return Check(sample, kind, channel, text, severity)


EVERYWHERE = [check(sample, "tilt", text="The background rises.") for sample in SAMPLES]
SOME = [check(sample, "saturated", "serious") for sample in SAMPLES[:3]]
ONE = [check("s7", "exposure")]


def test_lines_differing_first_then_the_worst() -> None:
    lines = gathered([*EVERYWHERE, *ONE, *SOME], 10)
    assert [(line.kind, line.is_common) for line in lines] == [
        ("saturated", False), ("exposure", False), ("tilt", True),
    ]  # fmt: skip
    assert [len(line.checks) for line in lines] == [3, 1, 10]
    assert lines[2].text(10) == "all 10 samples: The background rises."
    assert lines[0].text(10) == "s0, s1, s2: ."
    assert gathered(EVERYWHERE[:5], 10)[0].text(10).startswith("s0, s1, s2 and 2 more: ")


def test_channels_are_told_apart_and_the_worst_counts() -> None:
    two = [check("s1", "a", "note"), check("s2", "a", "serious"), check("s1", "a", channel="bf")]
    lines = gathered(two, 10)
    assert {(line.channel, line.severity) for line in lines} == {
        ("gfp", "serious"), ("bf", "caution"),
    }  # fmt: skip


def test_of_few_samples_nothing_is_common() -> None:
    lines = gathered([check("s0", "tilt"), check("s1", "tilt")], 2)
    assert not lines[0].is_common
    assert telling(lines, frozenset()) == {"s0": 1, "s1": 1}
    assert lines[0].text(1) == "."


def test_what_tells_samples_from_each_other() -> None:
    lines = gathered([*EVERYWHERE, *ONE, *SOME, check("s9", "size", "note")], 10)
    assert telling(lines, frozenset()) == {"s0": 1, "s1": 1, "s2": 1, "s7": 1}
    seen = frozenset([name_of(ONE[0]), name_of(SOME[1])])
    assert telling(lines, seen) == {"s0": 1, "s2": 1}
    # What is serious counts also where all have it.
    serious = gathered([check(sample, "damaged", "serious") for sample in SAMPLES], 10)
    assert len(telling(serious, frozenset())) == 10


def test_no_checks() -> None:
    assert gathered([], 5) == [] and telling([], frozenset()) == {}
