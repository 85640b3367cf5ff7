"""The report: one self-contained HTML page made from a template."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

from rilievo._version import __version__
from rilievo.core.batch import Outcome, measured
from rilievo.core.columns import with_derived
from rilievo.core.compare import Comparison, compare
from rilievo.core.describe import outline_lines, step_settings
from rilievo.core.history import HistoryEntry
from rilievo.core.marks import MARKS
from rilievo.core.measures import QUANTITIES
from rilievo.core.method import Method
from rilievo.core.reference import reference_of
from rilievo.core.report.figures import FigureLook, encoded
from rilievo.core.steps import STEPS
from rilievo.core.table import RegionTable, sample_frame


def _comparisons(tables: Sequence[RegionTable]) -> list[Comparison]:
    channels = dict.fromkeys(channel for table in tables for channel in table.channels)
    classes = max((len(table.classes) for table in tables), default=0)
    return [
        compare(tables, key, channel, place)
        for place in range(classes)
        for channel in channels
        for key in ("mean", "flux")
        if any(key in t.columns.get(channel, {}) and t.of_class(place).any() for t in tables)
    ]


def _changes(outcomes: Sequence[Outcome], method: Method) -> list[dict[str, Any]]:
    """What ±10 % of the threshold change, over all samples, a row a class."""
    rows = []
    for name in method.class_names:
        known = [outcome.changes[name] for outcome in outcomes if outcome.changes.get(name)]
        if not known:
            continue
        count = [sum(three[k].count for three in known) for k in range(3)]
        area = [sum(three[k].area for three in known) for k in range(3)]
        light = [
            sum(three[k].mean * three[k].area for three in known if three[k].area) for k in range(3)
        ]
        mean = [
            total / pixels if pixels else float("nan")
            for total, pixels in zip(light, area, strict=True)
        ]
        rows.append(
            {
                "name": name,
                "count": count,
                **{
                    key: [
                        100 * (values[k] / values[1] - 1) if values[1] else float("nan")
                        for k in (0, 2)
                    ]
                    for key, values in (("area", area), ("mean", mean))
                },
            }
        )
    return rows


def number(value: float) -> str:
    """Return a number with sensible digits, or a dash when it is undefined."""
    if value != value:  # NaN  # noqa: PLR0124
        return "–"
    if value == int(value) and abs(value) < 1e9:
        return f"{int(value):,}".replace(",", "\u202f")
    if abs(value) >= 100:
        return f"{value:,.1f}".replace(",", "\u202f")
    return f"{value:.4g}"


def extremes(tables: Sequence[RegionTable], each: int = 3) -> list[tuple[str, str, float]]:
    """Return the regions with the largest and smallest values of the first intensity measured.

    What it is, the reference under which the window finds the number, and the value.
    """
    found = []
    channels = dict.fromkeys(name for table in tables for name in table.channels)
    for channel in channels:
        having = [t for t in tables if channel in t.columns]
        wanted = ("mean", "flux", *having[0].quantities)
        key = next((k for k in wanted if all(k in t.columns[channel] for t in having)), None)
        if key is None:
            continue
        values = [
            (float(value), table, int(region))
            for table in having
            for region, value in zip(table.ids, table.column(channel, key), strict=True)
            if math.isfinite(value)
        ]
        values.sort(key=lambda one: one[0])
        heading = having[0].heading(key, channel)
        ends = [*((f"smallest, {heading}", v) for v in values[:each])]
        ends += [(f"largest, {heading}", v) for v in values[: -each - 1 : -1]]
        found += [
            (what, reference_of(table, region, channel, key), value)
            for what, (value, table, region) in ends
        ]
    return found


def report_page(
    outcomes: Sequence[Outcome], method: Method, history: Sequence[HistoryEntry] = ()
) -> str:
    """Return the report of a run as HTML without outside references."""
    import jinja2  # noqa: PLC0415 (slow to import)

    tables = with_derived(measured(outcomes), method.measure.derived)
    comparisons = _comparisons(tables)
    environment = jinja2.Environment(
        loader=jinja2.PackageLoader("rilievo.core.report"), autoescape=True, trim_blocks=True
    )
    environment.filters["number"] = number
    look = FigureLook(ground="#FBF8F2")
    return environment.get_template("report.html.j2").render(
        method=method,
        comparisons=[(c, encoded(c, "svg", look).decode()) for c in comparisons],
        samples=sample_frame(tables).to_dict("records"),
        failures=[outcome for outcome in outcomes if outcome.failure is not None],
        checks=[check for outcome in outcomes for check in outcome.checks],
        quantities=[QUANTITIES[key] for key in method.measure.quantities],
        steps=[
            (use, STEPS[use.step].is_linear(use.parameters), step_settings(use))
            for use in method.steps
        ],
        marks=MARKS,
        history=history,
        outlines=[(outline, outline_lines(outline)) for outline in method.outlines],
        changes=_changes(outcomes, method),
        extremes=extremes(tables),
        version=__version__,
        files=[outcome.item.path.name for outcome in outcomes],
    )
