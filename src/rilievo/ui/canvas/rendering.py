"""The image behind the picture: asked for by scene and view, painted in threads, coarse first."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtGui import QImage

from rilievo.core.pipeline.pyramids import pyramid_of
from rilievo.core.view.sampling import Viewport
from rilievo.ui.canvas.canvas_geometry import Geometry
from rilievo.ui.canvas.overlays import paint_values
from rilievo.ui.compute.compute import Compute
from rilievo.ui.compute.scene import Scene
from rilievo.ui.theme.roles import Theme

VALUES_FROM_ZOOM = 24.0


class Rendering:
    """Keeps the last image and what part of the picture it shows.

    A sketch is shown first where all would take long, then the part that is seen, then all of it.
    """

    def __init__(
        self, compute: Compute, theme: Theme, shown: Callable[[], None], again: Callable[[], None]
    ) -> None:
        """shown : called when there is another image. again : asks for the picture anew."""
        self._compute, self._theme, self._shown, self._again = compute, theme, shown, again
        self.image: QImage | None = None
        self.view: Viewport | None = None

    def clear(self) -> None:
        """Forget the image."""
        self.image = None

    def ask(self, scene: Scene, geometry: Geometry) -> None:
        """Ask for the image of a scene; a newer request replaces one that waits."""
        compute, view, looks = self._compute, geometry.view, self._theme.looks()
        selected, scale = compute.session.focus.regions, compute.ranges.number_scale()

        def work() -> tuple[QImage, bool]:
            sketched = scene.is_sketch(compute.cache)
            image = scene.painted(compute.cache, view, looks, selected, quick=True)
            values = scene.values(compute.cache)
            if values is not None and geometry.scale >= VALUES_FROM_ZOOM:
                # Hundreds of numbers take too long to write on the interface thread.
                paint_values(image, geometry, values, scene.display, scale)
            return image, sketched

        def done(result: tuple[QImage, bool]) -> None:
            image, sketched = result
            self._show(image, view)
            if sketched:
                self._improve(scene, view, image)

        compute.jobs.run("picture", work, done, lambda _: None, every=True)

    def _improve(self, scene: Scene, view: Viewport, sketch: QImage) -> None:
        """Have the part that is seen, and the rest after it."""
        compute, looks = self._compute, self._theme.looks()

        def show_part(part: QImage | None) -> None:
            if part is not None and self.image is sketch:
                self._show(part, view)

        compute.jobs.run(
            "visible",
            lambda: scene.painted_part(compute.cache, view, looks),
            show_part,
            lambda _: None,
        )
        compute.jobs.run(
            "refine",
            lambda: pyramid_of(scene.analysis(compute.cache), scene.channel),
            lambda _: self._again(),
        )

    def _show(self, image: QImage, view: Viewport) -> None:
        self.image, self.view = image, view
        self._shown()
