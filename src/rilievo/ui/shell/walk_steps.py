"""The sentences of the first measurement, with the controls they are about."""

from __future__ import annotations

from rilievo.ui.shell.views import Views
from rilievo.ui.shell.walk import WalkStep


def walk_steps(views: Views) -> tuple[WalkStep, ...]:
    """Return the steps from files to a comparison."""
    drawer, header = views.drawer, views.header
    return (
        WalkStep(
            "Bring in samples",
            "Drop image files or a folder on the window, or open a study. Each file is a sample; "
            "files are only read. Synthetic data are there to practise.",
            "look",
            lambda: views.area,
        ),
        WalkStep(
            "Samples and groups",
            "Every sample has a tile. Click one to look at it; type its group in the card at the "
            "right. Groups are compared later.",
            "look",
            lambda: drawer,
        ),
        WalkStep(
            "Histograms of all samples",
            "Each hill is the histogram of a sample. Drag the flags to set what is black and "
            "white; that changes no number.",
            "look",
            lambda: views.ridges,
        ),
        WalkStep(
            "Five stages",
            "The way goes from left to right: look, correct, outline, measure, compare. You can "
            "always go back.",
            "",
            lambda: header.rail,
        ),
        WalkStep(
            "Correct",
            "Choose what the picture needs, most often a background to subtract. Each step shows "
            "what it would do before you take it.",
            "correct",
            lambda: views.correct,
        ),
        WalkStep(
            "Outline",
            "Choose how regions are found. A threshold can be dragged in the Ridges; it is shown "
            "on every tile at once.",
            "outline",
            lambda: views.outline,
        ),
        WalkStep(
            "Measure",
            "Measure all samples with the same method. Click a number in the table to see from "
            "which pixels it comes.",
            "measure",
            lambda: header.run_button,
        ),
        WalkStep(
            "Compare",
            "Groups beside each other, with effects and tests over samples. From here the plot, "
            "the tables and the report are saved.",
            "compare",
            lambda: views.comparison,
        ),
    )
