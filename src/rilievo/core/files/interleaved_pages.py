"""Pages that are the channels of each place in turn, where a file does not say so."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from rilievo.core.image.image import Defect, Plane, Sample
from rilievo.core.image.stack import SECONDS_COLUMN, Along, Frame, depth_column


def channels_in_turn(count: int) -> tuple[str, ...]:
    """Return what such channels are called."""
    return tuple(f"channel {k + 1}" for k in range(count))


def in_turn(frame: Frame, read: Callable[[Frame], Sample]) -> Sample:
    """Return the sample of a place whose channels are `frame.channels` pages, one after another.

    read : gives a single page by its place among all. Raises what it raises.
    """
    along: Along = "time" if frame.time is not None else "z"
    place = frame.place(along) or 0
    first, single = place * frame.channels, replace(frame, channels=1)
    pages = [read(single.moved(along, first + k)) for k in range(frame.channels)]
    channels: dict[str, Plane] = {}
    defects: list[Defect] = []
    for title, page in zip(channels_in_turn(frame.channels), pages, strict=True):
        names = {name: title if len(page.channels) == 1 else f"{title} {name}"
                 for name in page.channels}  # fmt: skip
        channels |= {names[name]: plane for name, plane in page.channels.items()}
        defects += [defect._replace(channel=names.get(defect.channel, defect.channel))
                    for defect in page.defects]  # fmt: skip
    whole = pages[0]
    depth = depth_column(whole.attributes)
    # What the file says of a page by its number is not so of the place.
    of_page = ("z", "time", SECONDS_COLUMN, *(depth[:1] if depth else ()))
    attributes = {k: v for k, v in whole.attributes.items() if k not in of_page}
    return replace(
        whole,
        channels=channels,
        defects=tuple(dict.fromkeys(defects)),
        notes=tuple(dict.fromkeys(note for page in pages for note in page.notes)),
        attributes={**attributes, along: str(place + 1)},
    )
