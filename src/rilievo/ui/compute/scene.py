"""What the picture and the tiles show of a sample now: decided here once, painted in threads."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtGui import QImage

from rilievo.core.files.reader_helpers import COLOUR_NAMES
from rilievo.core.image.histogram import Histogram
from rilievo.core.image.image import Sample, ValueSource
from rilievo.core.image.pyramid import Pyramid
from rilievo.core.method import step_edits
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.analysis_cache import AnalysisCache
from rilievo.core.pipeline.pyramids import is_sketch, pyramid_of, quick_pyramid, visible
from rilievo.core.pipeline.thumbnails import AS_RELIEF
from rilievo.core.regions.gray_classes import class_cuts
from rilievo.core.regions.thresholds.classes import GrayClasses
from rilievo.core.view.palettes import (
    Colours,
    Equaliser,
    ViewStyle,
    encode_colour,
    equaliser,
    overlay_colours,
)
from rilievo.core.view.render import Layer, Looks, RegionLayer, Shading, overlaid, painted
from rilievo.core.view.sampling import Viewport
from rilievo.ui.compute.compute import Compute
from rilievo.ui.theme.roles import class_tints


@dataclass(frozen=True, eq=False)
class ChannelView:
    """A channel as a layer of an overlay."""

    channel: str
    display: tuple[float, float]
    style: ViewStyle
    colour: tuple[int, int, int]

    def layer(self, pyramid: Pyramid) -> Layer:
        """Return it with its pixels."""
        return Layer(pyramid, self.display, self.style, self.colour)


@dataclass(frozen=True, eq=False)
class Scene:
    """A channel with what is drawn over it.

    histogram : of the channel shown, when it is known. method : None shows the native values.
    shape : height and width of the picture, as far as it is known.
    labels : exact regions of the class in focus; others : those of other classes. table : what
    is shown for each label, while a limit is dragged. preview :
    threshold and side, applied to `outline_channel`, while the exact regions are not known.
    """

    sample: Sample
    channel: str
    method: Method | None
    display: tuple[float, float]
    labels: NDArray[Any] | None = None
    count: int | None = None
    preview: tuple[float, str] | None = None
    outline_channel: str = ""
    flood: bool = False
    style: ViewStyle = field(default_factory=ViewStyle)
    histogram: Histogram | None = None
    layers: tuple[ChannelView, ...] = ()
    others: tuple[NDArray[Any], ...] = ()
    table: NDArray[np.int32] | None = None
    classes: GrayClasses | None = None
    lines: bool = True
    shape: tuple[int, int] = (1, 1)

    @property
    def equal(self) -> Equaliser | None:
        """What an equalised style needs to know of the channel."""
        if self.style.stretch != "equal" or self.histogram is None:
            return None
        return equaliser(self.histogram, *self.display)

    def analysis(self, cache: AnalysisCache) -> Analysis:
        """Return what is made of the sample; native values have no step."""
        return Analysis(self.sample, self.method or Method(), cache)

    def values(self, cache: AnalysisCache) -> NDArray[Any] | None:
        """Return the numbers of the plane that is shown; None while only coarser ones are known."""
        pyramid = quick_pyramid(self.analysis(cache), self.channel)
        return None if pyramid.finest else pyramid.levels[0]

    def without_outlines(self) -> Scene:
        """Return it with regions flooded but not outlined, for who draws them as vectors."""
        return replace(self, lines=False)

    def looks_like(self) -> tuple[object, ...]:
        """Name what is shown, so that the same need not be drawn again."""
        labels = None if self.labels is None else id(self.labels)
        layers = tuple((one.channel, one.display, one.style) for one in self.layers)
        return (
            self.sample.content,
            self.channel,
            self.method,
            self.display,
            labels,
            tuple(id(one) for one in self.others),
            self.classes,
            id(self.table),
            self.preview,
            self.style,
            id(self.histogram),
            layers,
        )

    def is_sketch(self, cache: AnalysisCache) -> bool:
        """Whether a quick picture is a sketch as yet."""
        return is_sketch(self.analysis(cache), self.channel)

    def painted_part(self, cache: AnalysisCache, viewport: Viewport, looks: Looks) -> QImage | None:
        """Return what the screen shows of a signal before all of it is computed, if it can be."""
        bare = self.labels is None and self.preview is None and not self.layers
        if self.method is None or not bare or self.equal is not None:
            return None
        found = visible(self.analysis(cache), self.channel, viewport)
        if found is None:
            return None
        pyramid, view = found
        return to_image(painted(pyramid, view, self.display, looks, shading=Shading(self.style)))

    def painted(
        self,
        cache: AnalysisCache,
        viewport: Viewport,
        looks: Looks,
        selected: Collection[int] = (),
        *,
        quick: bool = False,
    ) -> QImage:
        """Return the picture; takes a while the first time a channel is shown.

        quick : show a sketch of a large plane until its coarser levels are computed.
        """
        outlined, analysis = None, self.analysis(cache)
        if self.preview is not None and self.outline_channel != self.channel:
            outlined = pyramid_of(analysis, self.outline_channel)
        find = quick_pyramid if quick else pyramid_of
        if self.layers:
            layers = [one.layer(find(analysis, one.channel)) for one in self.layers]
            equalise = any(one.style.stretch == "equal" for one in self.layers)
            return to_image(
                overlaid(
                    layers,
                    viewport,
                    looks,
                    equalise=equalise,
                    labels=self.labels if self.lines else None,
                    selected=selected,
                )
            )
        pixels = painted(
            find(analysis, self.channel),
            viewport,
            self.display,
            looks,
            RegionLayer(
                labels=self.labels,
                others=self.others,
                table=self.table,
                preview=self.preview,
                outlined=outlined,
                flood=self.flood,
                lines=self.lines,
                selected=selected,
            ),
            Shading(self.style, self.equal, self._flat(cache)),
        )
        return to_image(pixels)

    def _flat(self, cache: AnalysisCache) -> tuple[NDArray[np.float64], NDArray[np.uint32]] | None:
        """The levels between gray classes, and their tints."""
        if self.classes is None:
            return None
        histogram = self.analysis(cache).histogram(self.channel)
        cuts = class_cuts(histogram, self.classes.k, self.classes.by)
        tints = [encode_colour(tint) for tint in class_tints(cuts.size + 1)]
        return cuts, np.array(tints, np.uint32)


def paint_later(
    compute: Compute,
    slot: str,
    scene: Scene,
    viewport: Viewport,
    looks: Looks,
    done: Callable[[QImage], None],
) -> None:
    """Paint a scene in a thread, as a sketch if need be, then hand the picture to `done`.

    What cannot be painted, such as a channel that is gone, is said where the sample is shown.
    """
    compute.jobs.run(
        slot,
        lambda: scene.painted(compute.cache, viewport, looks, quick=True),
        done,
        lambda _: None,
        every=True,
    )


def to_image(pixels: Colours) -> QImage:
    """Return 0xFFRRGGBB pixels of shape (height, width) as an image that owns them."""
    height, width = np.shape(pixels)
    return QImage(pixels.tobytes(), width, height, 4 * width, QImage.Format.Format_RGB32).copy()


def scene_of(
    compute: Compute, sample_id: int, *, before: bool = False, channel: str | None = None
) -> Scene:
    """Return what the present stage shows of a sample.

    before : the picture as it entered the stage. channel : None means the focused one.
    """
    session = compute.session
    sample = compute.store.samples[sample_id].renamed(session.state.entry(sample_id).name)
    channel = channel or compute.store.channel_for(sample)
    facts = compute.queue.current(sample_id)
    # While the corrections cannot be applied, what is in the file is shown.
    cannot = facts is not None and facts.error is not None and not facts.signal
    native = not compute.session.shows_signal or (before and session.stage == "correct") or cannot
    source: ValueSource = "native" if native else "signal"
    scene = Scene(
        sample,
        channel,
        _method_shown(compute, native),
        compute.ranges.display_range(channel, source, sample_id),
        style=_style(compute, channel, sample_id),
        shape=compute.displayed.frame_of(sample_id).shape,
        histogram=None
        if facts is None or (compute.displayed.aspect is not None and not native)
        else (facts.native if native else facts.signal).get(channel),
    )
    if session.view.overlay and len(sample.channels) > 1:
        scene = replace(scene, layers=_layers(compute, sample_id, sample, source))
    if not compute.session.shows_regions or before or native:
        return scene
    flood = session.stage == "outline"
    parameters = session.focus.outline.threshold.parameters
    tinted = flood and session.view.flat_classes and session.focus.outline.source == "threshold"
    if tinted and isinstance(parameters, GrayClasses) and channel == compute.store.outline_channel:
        scene = replace(scene, classes=parameters)
    regions = compute.regions.of(sample_id) if facts is not None else None
    kept = compute.drag.kept
    if kept is not None and kept.sample_id == sample_id:
        return replace(scene, labels=kept.found.labels, table=kept.table, flood=flood)
    if compute.drag.level is None and regions is not None:
        return replace(
            scene,
            labels=regions.labels,
            count=regions.count,
            flood=flood,
            others=tuple(
                one.labels
                for index, one in enumerate(facts.regions if facts else ())
                if index != session.focus.class_index
            ),
        )
    level, outline = compute.regions.level(sample_id), session.focus.outline
    found_on = outline.channel or sample.channel_names[0]
    if level is None or found_on not in sample.channels:
        return scene
    return replace(scene, preview=(level, outline.keep), outline_channel=found_on, flood=flood)


def _method_shown(compute: Compute, native: bool) -> Method | None:
    if not native:
        return compute.displayed.method
    method = compute.displayed.method
    # What is compared before and after must lie at the same position.
    moved = compute.session.shows_signal and step_edits.moves_pixels(method)
    return step_edits.only_moving(method) if moved else None


def _style(compute: Compute, channel: str, sample_id: int) -> ViewStyle:
    """How a channel is shown; a background by itself as terrain, if one likes."""
    style = compute.ranges.style(channel, sample_id)
    aspect = compute.displayed.aspect
    if aspect is None or aspect[1] != "background" or style.relief > 0:
        return style
    if not compute.session.view.background_as_relief:
        return style
    return style.model_copy(update=AS_RELIEF)


def _layers(
    compute: Compute, sample_id: int, sample: Sample, source: ValueSource
) -> tuple[ChannelView, ...]:
    """The visible channels in their colours."""
    hidden = compute.session.view.hidden
    colours = overlay_colours(sample.channel_names)
    views = []
    for name, colour in colours.items():
        if name in hidden:
            continue
        views.append(
            ChannelView(
                name,
                _overlay_range(compute, sample_id, name, source, tuple(colours)),
                _overlay_style(compute, sample_id, name),
                colour,
            )
        )
    return tuple(views)


def plain(scene: Scene, display: tuple[float, float]) -> Scene:
    """Return a scene in plain gray over a range, to set beside its own view."""
    return replace(scene, style=ViewStyle(), display=display, layers=())


def _overlay_range(
    compute: Compute, sample_id: int, channel: str, source: ValueSource, names: tuple[str, ...]
) -> tuple[float, float]:
    """A photograph keeps its hues only if its colours share one range that begins at black."""
    chosen = compute.session.state.range_of(sample_id, channel, source)
    if chosen is not None or names != COLOUR_NAMES:
        return compute.ranges.display_range(channel, source, sample_id)
    return 0.0, max(compute.ranges.display_range(name, source, sample_id)[1] for name in names)


def _overlay_style(compute: Compute, sample_id: int, channel: str) -> ViewStyle:
    """Light that is proportional is dark on a screen; it is lifted as the screen expects it."""
    style = compute.ranges.style(channel, sample_id)
    undone = compute.session.state.method.reading.undo_srgb
    if undone and channel in COLOUR_NAMES and style == ViewStyle():
        return ViewStyle(stretch="gamma", gamma=1 / 2.2)
    return style
