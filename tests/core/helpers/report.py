"""What several tests have in common: report."""

from __future__ import annotations

from rilievo.core.method.method import Method
from tests.outlines import outline

METHOD = Method(name="A <b>method</b>", outlines=(outline(200.0),))
