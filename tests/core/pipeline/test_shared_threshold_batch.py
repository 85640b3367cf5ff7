from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np

from rilievo.core.batch import measured
from rilievo.core.files.sample_ref import samples_for
from rilievo.core.method.method import Method
from rilievo.core.report.page import Contents, report_page
from tests.core.helpers.measuring import run_batch
from tests.outlines import outline


def test_a_batch_with_one_level_for_all_and_the_change_in_its_report(
    write_tiff: Callable[..., Path],
) -> None:
    rng = np.random.default_rng(5)
    files = []
    for k, high in enumerate((500, 600)):
        pixels = rng.normal(100, 4, (40, 40))
        pixels[5:20, 5:20] = high
        files.append(write_tiff(f"s{k}.tif", np.round(pixels).astype(np.uint16)))
    method = Method(outlines=(outline(threshold={"pooled": True}),))
    serial = run_batch(samples_for(files), method)
    levels = {table.threshold() for table in measured(serial)}
    assert len(levels) == 1
    apart = run_batch(samples_for(files), Method(outlines=(outline(),)))
    assert len({table.threshold() for table in measured(apart)}) == 2
    changes = [outcome.changes["cell"] for outcome in serial]
    assert all(len(three) == 3 and three[1].count == 1 for three in changes)
    page = report_page(Contents(serial, method))
    assert "How much depends on the threshold" in page
    assert "Otsu" in page
