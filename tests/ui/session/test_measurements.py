"""Measurements of the study's samples: which tables are shown, and whether they are current."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np

from rilievo.core.method.method import Measure, Method
from rilievo.core.study.study import SampleEntry, StudyState
from rilievo.core.table.derived_columns import DerivedColumn
from rilievo.ui.session.measurements import Measurements
from tests.core.helpers.table import table

METHOD = Method(measure=Measure(derived=(DerivedColumn(name="twice", formula="2 * mean"),)))
STATE = StudyState(samples=(SampleEntry(Path("a.tif"), "a", id=1),), method=METHOD)


def shown(measurements: Measurements) -> list[float]:
    (found,) = measurements.ordered_tables()
    return [float(value) for value in found.column("one", "twice")]


def test_derived_columns_are_never_those_of_a_table_that_is_gone() -> None:
    measurements = Measurements(lambda: STATE)
    measurements.set_table(1, table(values=(10.0,)), METHOD)
    assert shown(measurements) == [20.0]
    old = id(measurements.tables[1])
    other, made = table(values=(30.0,)), [table()]
    measurements.tables.clear()
    # A new table gets the address of the old one, if that was let go.
    while len(made) < 1000 and id(made[-1]) != old:
        made.append(replace(other))
    measurements.set_table(1, made[-1], METHOD)
    assert shown(measurements) == [60.0]


def test_derived_columns_are_computed_once() -> None:
    measurements = Measurements(lambda: STATE)
    measurements.set_table(1, table(values=(10.0,)), METHOD)
    first = measurements.ordered_tables()[0].column("one", "twice")
    assert measurements.ordered_tables()[0].column("one", "twice") is first


def test_measurements_are_stale_when_another_method_made_them() -> None:
    state = STATE
    measurements = Measurements(lambda: state)
    assert not measurements.is_stale
    measurements.set_table(1, table(), METHOD)
    assert not measurements.is_stale
    other = METHOD.changed(measure=Measure(quantities=("mean",)))
    state = StudyState(samples=STATE.samples, method=other)
    assert measurements.is_stale
    # Two methods that mean the same.
    measurements.take_method(METHOD, other)
    assert not measurements.is_stale


def test_what_is_not_saved_would_be_lost() -> None:
    measurements = Measurements(lambda: STATE)
    assert not measurements.are_unsaved
    measurements.set_table(1, table(), METHOD)
    assert measurements.are_unsaved
    measurements.note_saved()
    assert not measurements.are_unsaved
    measurements.set_table(2, table(), METHOD)
    measurements.keep_only({2})
    assert list(measurements.tables) == [2]
    np.testing.assert_array_equal(measurements.tables[2].ids, [1, 2])
