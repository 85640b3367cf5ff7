"""What the method makes of the checks: backgrounds that are doubtful, and what is put right."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from itertools import chain

from rilievo.core.method.method import Method
from rilievo.core.pipeline.checks import Check
from rilievo.core.signal.steps import STEPS
from rilievo.core.signal.steps.beside_objects import background_doubts

# Step → channel → the numbers that it told.
Reports = Mapping[str, Mapping[str, Mapping[str, float]]]


def check_steps(
    sample: str, method: Method, reports: Reports, channels: Collection[str]
) -> list[Check]:
    """Return the warnings about what the steps of a method did to a sample with some channels."""
    checks = []
    for use in method.steps:
        if not use.on:
            continue
        if use.channels and channels and not set(use.channels) & set(channels):
            text = (
                f"{use.title} is for {', '.join(use.channels)}, which sample “{sample}” does not "
                f"have, only {', '.join(channels)}; choose the channels of the step again."
            )
            checks.append(Check(sample, "step without its channel", "", text, "serious"))
        for channel, numbers in reports.get(use.id, {}).items():
            checks += [
                Check(sample, "background", channel, f"{use.title}: {text}")
                for text in background_doubts(numbers)
            ]
    return checks


def unmended(checks: Iterable[Check], method: Method, channels: Iterable[str]) -> list[Check]:
    """Return the checks that the method does not put right already.

    A background that tilts is none any more where it is subtracted from every channel.
    """
    estimated = [use for use in method.steps if use.on and STEPS[use.step].estimate is not None]
    names = list(channels)
    flat = bool(names) and all(any(use.applies_to(name) for use in estimated) for name in names)
    return [check for check in checks if not (flat and check.kind == "tilted background")]


def joined(*several: Iterable[Check]) -> tuple[Check, ...]:
    """Return several lists of checks as one, each check once."""
    return tuple(dict.fromkeys(chain.from_iterable(several)))
