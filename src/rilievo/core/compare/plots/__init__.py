"""The ways a comparison is drawn: one module a kind of plot, behind one registry."""

from rilievo.core.compare.plot_kind import PLOTS, PlotKind, plot

__all__ = ["PLOTS", "PlotKind", "plot"]

PLOTS.discover()
