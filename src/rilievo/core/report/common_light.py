"""The common light of the samples of a batch, read one after another."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from rilievo.core.batch.task import opened
from rilievo.core.errors import Cancelled, RilievoError
from rilievo.core.files.sample_ref import SampleRef
from rilievo.core.image.image import FloatPixels, Plane
from rilievo.core.pipeline.step_chain import channel_of
from rilievo.core.progress import no_report
from rilievo.core.signal.batch_light import BatchLight, LightKind, batch_light


@dataclass(frozen=True, eq=False)
class LightOfSamples:
    """The light, as a plane with the pixel size of the first sample. left_out : with the reason."""

    light: BatchLight
    plane: Plane
    left_out: dict[str, str]


def light_of(
    samples: Sequence[SampleRef],
    channel: str,
    kind: LightKind = "flat",
    dark: float = 0.0,
    report: Callable[[float], None] = no_report,
) -> LightOfSamples:
    """Return the light, or the offset, that the samples of a batch share in a channel.

    channel : "" for the first of each. Samples that cannot be read or lack it are left out and
    named. Raises StepError, see `batch_light`.
    """
    left_out: dict[str, str] = {}
    first: list[Plane] = []

    def pictures() -> Iterator[FloatPixels]:
        for done, ref in enumerate(samples):
            report(done / max(len(samples), 1))
            try:
                plane = _plane_of(ref, channel)
            except Cancelled:
                raise
            except RilievoError as exc:
                left_out[ref.name] = str(exc)
                continue
            first[:] = first or [plane]
            yield plane.as_float()

    light = batch_light(pictures(), kind, dark)
    return LightOfSamples(light, first[0].with_pixels(light.field, None), left_out)


def _plane_of(ref: SampleRef, channel: str) -> Plane:
    with opened(ref) as sample:
        return sample.channels[channel_of(sample, channel or None)]
