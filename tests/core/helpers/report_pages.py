"""What several tests have in common: report pages."""

from __future__ import annotations

from rilievo.core.method.class_definition import clean_use
from rilievo.core.method.method import Measure, Method, SampleException, step_use
from tests.outlines import outline, reject

METHOD = Method(
    name="Cells",
    outlines=(outline(200.0, clean=(clean_use("keep", quantity="area", lower=20),)),),
    steps=(step_use("g", "smooth.gaussian", sigma=1.0), step_use("p", "curve.power", exponent=1)),
    measure=Measure(quantities=("mean", "area")),
    exceptions={"a-1": SampleException(edits=reject((20, 10)))},
)
