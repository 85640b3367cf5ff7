"""Every route that measures gives the batch's numbers to the last bit."""

from __future__ import annotations

import csv
import io
import math
import signal
import subprocess
import sys
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tifffile
from pytestqt.qtbot import QtBot

from rilievo.core.batch import Measurer, workers
from rilievo.core.compare import Question, compare
from rilievo.core.compare.observations import observations
from rilievo.core.files.channel_preparation import MetadataOverrides
from rilievo.core.files.plane_choice import PlaneChoice, with_frames
from rilievo.core.files.reader import read_layout
from rilievo.core.files.sample_ref import SampleRef, samples_at, samples_for
from rilievo.core.method.class_definition import ClassDefinition
from rilievo.core.method.method import Measure, Method, SampleException, step_use
from rilievo.core.pipeline.fingerprints import package_versions
from rilievo.core.report.sensitivity import run_alternatives
from rilievo.core.report.study_report import study_contents
from rilievo.core.report.two_measurers import measure_twice
from rilievo.core.report.verify import verify
from rilievo.core.study.study import StudyState
from rilievo.core.study.study_file import save_study
from rilievo.core.table.compartments import Pair
from rilievo.core.table.derived_columns import DerivedColumn
from rilievo.core.table.table import RegionTable
from rilievo.notebook.batch import measure_batch
from rilievo.ui.shell.window import Window
from tests.core.helpers.measuring import run_batch
from tests.outlines import clean_up, outline, reject
from tests.stars import gaussian_star
from tests.test_cli import rilievo
from tests.ui.conftest import WAIT
from tests.web_server import served

# (sample, class, region, channel, quantity) → the number as it is written, "" where undefined.
Numbers = dict[tuple[str, str, str, str, str], str]
KEYS = ("area", "mean", "sum", "x", "y", "pixel_count", "saturated_count", "area_unit")


@dataclass(frozen=True)
class Case:
    """Samples and a method; what the command line needs beside them."""

    samples: Sequence[SampleRef]
    method: Method
    options: tuple[str, ...] = ()

    @property
    def words(self) -> list[str]:
        return [ref.url or str(ref.path) for ref in self.samples]

    @property
    def is_remote(self) -> bool:
        return any(ref.url for ref in self.samples)

    @property
    def is_stack(self) -> bool:
        return any(part.frame is not None for ref in self.samples for part in ref.parts)

    def study(self, folder: Path) -> Path:
        state = StudyState(method=self.method).with_samples(self.samples)
        save_study(state, folder / "s.rilievo")
        return folder / "s.rilievo"


# -- the cases


def pixels(seed: int) -> np.ndarray:
    """Two channels with bright spots of their own light on uneven ground."""
    rng = np.random.default_rng(seed)
    rows, columns = np.mgrid[:64, :80]
    planes = rng.normal(200, 5, (2, 64, 80)) + 0.4 * columns
    for k in range(5):
        y, x = 8 + 12 * (k % 5), 10 + 14 * k
        inside = (rows - y) ** 2 + (columns - x) ** 2 < 16 + 4 * k
        planes[0][inside] += 300 + 40 * k + 20 * seed
        planes[1][inside] += 900 if k == 3 else 150
    return np.round(planes).astype(np.uint16)


def files(folder: Path) -> list[Path]:
    paths = []
    for seed, name in enumerate(("fed-1", "fed-2", "lean-1", "lean-2")):
        path = folder / f"{name}.tif"
        tifffile.imwrite(path, pixels(seed), photometric="minisblack", metadata={"axes": "CYX"})
        paths.append(path)
    return paths


def method(**fields: Any) -> Method:
    found = outline(None, clean=clean_up(smallest=6.0))
    plain = Method(
        steps=(step_use("blur", "smooth.gaussian", sigma=0.8),),
        outlines=(found,),
        measure=Measure(quantities=KEYS),
    )
    return plain.changed(**fields)


def plain(folder: Path) -> Case:
    return Case(samples_for(files(folder)), method())


def pooled(folder: Path) -> Case:
    both = outline(None, clean=clean_up(smallest=6.0), threshold={"pooled": True})
    return Case(samples_for(files(folder)), method(outlines=(both,)))


def exceptions(folder: Path) -> Case:
    own = {
        "fed-1": SampleException(parameters={"blur": {"sigma": 1.6}}),
        "lean-1": SampleException(edits=reject((10, 8))),
    }
    return Case(samples_for(files(folder)), method(exceptions=own))


def overrides(folder: Path) -> Case:
    overrides = MetadataOverrides(pixel_size=0.65, unit="µm", saturation=1000.0)
    refs = [replace(ref, overrides=overrides) for ref in samples_for(files(folder))]
    return Case(refs, method(), ("--pixel-size", "0.65um", "--saturation", "1000"))


def stack(folder: Path) -> Case:
    path = folder / "film.ome.tif"
    moved = np.stack([np.roll(pixels(0)[0], 2 * time, axis=1) for time in range(3)])
    tifffile.imwrite(path, moved, photometric="minisblack", metadata={"axes": "TYX"}, ome=True)
    (whole,) = samples_for([path])
    refs = with_frames(
        replace(whole, parts=whole.sources), read_layout(path), PlaneChoice.parse("each")
    )
    return Case(refs, method(), ("--planes", "each"))


def stars(folder: Path) -> Case:
    paths = []
    for seed in range(2):
        rng = np.random.default_rng(seed)
        field = rng.normal(100, 3, (120, 120))
        for k in range(4):
            place = 30 + 60 * (k % 2), 30 + 60 * (k // 2)
            field += gaussian_star((120, 120), *place, 20_000 + 4_000 * k, 4.0)
        paths.append(folder / f"night-{seed + 1}.tif")
        tifffile.imwrite(paths[-1], np.round(field).astype(np.uint16))
    found = ClassDefinition(region_class="star", source="stars")
    keys = Measure(quantities=("flux", "fwhm", "sky", "x", "y"))
    return Case(samples_for(paths), Method(outlines=(found,), measure=keys))


def derived(folder: Path) -> Case:
    columns = (
        DerivedColumn(name="light", formula="sum / area"),
        DerivedColumn(name="relative", formula='mean / mean("fed")'),
    )
    return Case(
        samples_for(files(folder)), method(measure=Measure(quantities=KEYS, derived=columns))
    )


def compartments(folder: Path) -> Case:
    inner = outline(None, region_class="core", channel="channel 2", clean=clean_up(smallest=4.0))
    pairs = (Pair(inner="core", outer="cell"),)
    cells = outline(None, channel="channel 1", clean=clean_up(smallest=6.0))
    measure = Measure(quantities=KEYS, pairs=pairs)
    return Case(samples_for(files(folder)), method(outlines=(cells, inner), measure=measure))


@pytest.fixture
def served_files(tmp_path: Path) -> Iterator[Case]:
    folder = tmp_path / "web"
    folder.mkdir()
    both = outline(None, clean=clean_up(smallest=6.0), threshold={"pooled": True})
    with served(folder) as server:
        urls = [f"{server.url}{path.name}" for path in files(folder)]
        yield Case(samples_at(urls), method(outlines=(both,)))


CASES: Mapping[str, Callable[[Path], Case]] = {
    one.__name__: one
    for one in (
        plain, pooled, exceptions, overrides, stack, stars, derived, compartments,
    )
}  # fmt: skip


# -- the numbers


def text(value: float) -> str:
    return repr(float(value)) if math.isfinite(value) else ""


def of_tables(tables: Sequence[RegionTable]) -> Numbers:
    return {
        (table.sample, table.class_of(region), table.label_of(region), channel, key): text(value)
        for table in tables
        for channel in table.channels
        for key in table.columns[channel]
        for region, value in zip(
            table.ids.tolist(), table.column(channel, key).tolist(), strict=True
        )
    } | {
        (table.sample, table.class_of(region), table.label_of(region), "", "track"): track
        for table in tables
        for region, facts in table.known.items()
        if (track := facts.attributes.get("track"))
    }


def of_csv(content: str, tables: Sequence[RegionTable]) -> Numbers:
    """The cells of a table as numbers; tables tell which columns are measured."""
    several = len(tables[0].classes) > 1
    keys = list(tables[0].quantities)
    found: Numbers = {}
    for row in csv.DictReader(io.StringIO(content)):
        name = f"{row['class']} {row['region']}" if several else row["region"]
        where = (row["sample"], row["class"], name)
        for key in keys:
            value = row[key]
            found[*where, row["channel"], key] = text(float(value)) if value else ""
        if row.get("track"):
            found[*where, "", "track"] = row["track"]
    return found


# -- the routes


def tables_of(case: Case) -> list[RegionTable]:
    """One after the other in this process: the batch, whose numbers the others have."""
    from rilievo.core.batch import finished_tables  # noqa: PLC0415

    return finished_tables(run_batch(case.samples, case.method), case.method)


def printed(case: Case, folder: Path, what: Path | str, *words: str) -> Numbers:
    rilievo("run", what, *words, "--out", folder / "out", "--no-report", "--allow-outside")
    return of_csv((folder / "out" / "regions.csv").read_text("utf-8"), tables_of(case))


def run_of_method(case: Case, folder: Path) -> Numbers:
    case.method.save(folder / "m.json")
    words = [str(case.samples[0].path)] if case.is_stack else case.words
    return printed(case, folder, folder / "m.json", *words, *case.options)


def run_of_study(case: Case, folder: Path) -> Numbers:
    return printed(case, folder, case.study(folder))


def in_processes(case: Case, folder: Path) -> Numbers:
    from rilievo.core.batch import finished_tables  # noqa: PLC0415

    return of_tables(finished_tables(run_batch(case.samples, case.method, jobs=2), case.method))


def on_a_cluster(case: Case, folder: Path) -> Numbers:
    from rilievo.core.batch import finished_tables  # noqa: PLC0415

    distributed = pytest.importorskip("distributed")
    with distributed.LocalCluster(
        n_workers=1, threads_per_worker=1, processes=True, dashboard_address=None, silence_logs=50
    ) as cluster:
        results = run_batch(case.samples, case.method, scheduler=cluster.scheduler_address)
        return of_tables(finished_tables(results, case.method))


def watched(case: Case, folder: Path) -> Numbers:
    case.method.save(folder / "m.json")
    order = [
        sys.executable, "-m", "rilievo", "run", str(folder / "m.json"),
        str(case.samples[0].path.parent), "--out", str(folder / "out"), "--watch", "--no-report",
        "--json-lines", *case.options,
    ]  # fmt: skip
    with subprocess.Popen(order, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None
        for line in process.stdout:
            if '"end"' in line:
                break
        process.send_signal(signal.SIGINT)
        process.stdout.read()
    return of_csv((folder / "out" / "regions.csv").read_text("utf-8"), tables_of(case))


def in_a_notebook(case: Case, folder: Path) -> Numbers:
    return of_tables(measure_batch(case.words, case.method).tables)


def in_a_report(case: Case, folder: Path) -> Numbers:
    from rilievo.core.batch import finished_tables  # noqa: PLC0415

    state = StudyState(method=case.method).with_samples(case.samples)
    return of_tables(finished_tables(study_contents(state, date="").outcomes, case.method))


ROUTES = {
    one.__name__: one
    for one in (
        run_of_method, run_of_study, in_processes, on_a_cluster, watched, in_a_notebook,
        in_a_report,
    )
}  # fmt: skip
# A folder that is watched holds files, each a sample; a study and a report are of files here.
# A notebook is given files alone.
WITHOUT = {
    ("stack", "watched"), ("stack", "in_a_notebook"), ("overrides", "in_a_notebook"),
}  # fmt: skip
SLOW = {"on_a_cluster", "watched"}


@pytest.fixture(autouse=True)
def processes_at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(workers, "START_SECONDS", 0.0)


@pytest.mark.filterwarnings("default")
@pytest.mark.parametrize(
    ("kind", "route"),
    [
        pytest.param(kind, route, marks=[pytest.mark.slow] if route in SLOW else [])
        for kind in CASES
        for route in ROUTES
        if (kind, route) not in WITHOUT
    ],
)
def test_each_route_gives_the_numbers_of_the_batch(kind: str, route: str, tmp_path: Path) -> None:
    (tmp_path / "in").mkdir()
    case = CASES[kind](tmp_path / "in")
    expected = of_tables(tables_of(case))
    assert any(expected.values())
    assert ROUTES[route](case, tmp_path) == expected


@pytest.mark.filterwarnings("default")
@pytest.mark.parametrize(
    "route", ["run_of_method", "in_processes", "in_a_notebook", "choices", "two_measurers"]
)
def test_each_route_measures_images_at_urls(route: str, served_files: Case, tmp_path: Path) -> None:
    """With a level in common, for which all of them are read before."""
    here = Case(samples_for(sorted((tmp_path / "web").glob("*.tif"))), served_files.method)
    expected = of_tables(tables_of(here))
    if route == "choices":
        assert_choices_begin_with(served_files, tables_of(here))
    elif route == "two_measurers":
        assert_measured_alike(served_files, tables_of(here))
    else:
        assert ROUTES[route](served_files, tmp_path) == expected


@pytest.mark.parametrize("kind", CASES)
def test_the_window_gives_the_numbers_of_the_batch(
    kind: str, tmp_path: Path, window: Window, settle: Callable[[], None], qtbot: QtBot
) -> None:
    (tmp_path / "in").mkdir()
    case = CASES[kind](tmp_path / "in")
    window.session.load(case.study(tmp_path))
    settle()
    with qtbot.waitSignal(window.compute.batch.measured, timeout=WAIT):
        window.commands.measure.measure_all()
    settle()
    qtbot.waitUntil(lambda: window.jobs.idle, timeout=WAIT)
    expected = of_tables(tables_of(case))
    assert expected

    # Columns that follow from all samples, such as tracks, come after the batch.
    def agrees() -> None:
        assert of_tables(window.session.measurements.ordered_tables()) == expected

    qtbot.waitUntil(agrees, timeout=WAIT)


@pytest.mark.parametrize("kind", [kind for kind in CASES if kind != "stars"])
def test_choices_begin_with_the_numbers_of_the_batch(kind: str, tmp_path: Path) -> None:
    case = CASES[kind](tmp_path)
    if case.is_stack:
        refs = [replace(ref, group="ab"[k % 2]) for k, ref in enumerate(case.samples)]
        case = replace(case, samples=refs)
    assert_choices_begin_with(case, tables_of(case))


def assert_choices_begin_with(case: Case, tables: Sequence[RegionTable]) -> None:
    question = Question(quantities=("mean",), unit="region")
    attributes = {table.sample: table.attributes for table in tables}
    expected = compare(tables, question, attributes).versus
    found = run_alternatives(case.samples, case.method, question)
    first = [one for one in found if one.kind == "as it is"]
    assert [one.difference for one in first] == [one.difference for one in expected]
    assert len({one.title for one in found if not one.why_not}) > 3


@pytest.mark.parametrize("kind", [kind for kind in CASES if kind != "stars"])
def test_two_measurers_who_are_one_agree_wholly(kind: str, tmp_path: Path) -> None:
    case = CASES[kind](tmp_path)
    assert_measured_alike(case, tables_of(case))


def assert_measured_alike(case: Case, tables: Sequence[RegionTable]) -> None:
    found = measure_twice(case.samples, (case.method, case.method), ("one", "other"))
    assert found.failures == {}
    channel = tables[0].channels[0]
    for table, pair in zip(tables, found.samples, strict=True):
        means = table.column(channel, "mean")[table.of_class(0)]
        assert pair.regions == (means.size, means.size)
        assert pair.matched == means.size > 0
        assert pair.values == (float(np.mean(means)),) * 2
    assert all(pair.values[0] == pair.values[1] for pair in found.pairs)


@pytest.mark.parametrize("kind", CASES)
def test_verifying_finds_the_numbers_of_the_batch(kind: str, tmp_path: Path) -> None:
    case = CASES[kind](tmp_path)
    state = StudyState(method=case.method).with_samples(case.samples)
    with Measurer() as measurer:
        pooled_method = measurer.resolved(state.samples, [state.method])[0]
    outcomes = run_batch(list(state.samples), case.method)
    tables = {e.id: o.table for e, o in zip(state.samples, outcomes, strict=True) if o.table}
    path = tmp_path / "proof.rilievo"
    save_study(replace(state, method=pooled_method), path, tables,
               environments=[package_versions()])  # fmt: skip
    verdict = verify(path)
    assert verdict.differing == ()
    assert verdict.numbers == sum(
        table.ids.size * len(table.channels) * len(table.quantities) for table in tables.values()
    )


@pytest.mark.parametrize("kind", ["plain", "pooled", "exceptions", "overrides", "stack"])
def test_label_images_read_back_give_the_numbers_of_the_batch(kind: str, tmp_path: Path) -> None:
    case = CASES[kind](tmp_path)
    tables = tables_of(case)
    run_batch(case.samples, case.method, labels=tmp_path / "labels")
    name = case.method.class_names[0]
    given = ClassDefinition(
        source="label_image",
        label_image={"file": str(tmp_path / "labels" / name / "{sample}.tif")},
    )
    own = {
        sample: SampleException(parameters=one.parameters)
        for sample, one in case.method.exceptions.items()
        if one.parameters
    }
    again = case.method.changed(outlines=(given,), exceptions=own)
    found = of_tables(tables_of(replace(case, method=again)))
    # Regions that were left out have no number in a label image.
    expected = of_tables(tables)
    assert sorted(found.values()) == sorted(expected.values())


def test_observations_are_of_the_same_tables(tmp_path: Path) -> None:
    """What is compared is taken from the tables, not measured again."""
    tables = tables_of(plain(tmp_path))
    attributes = {table.sample: table.attributes for table in tables}
    found, _ = observations(tables, Question(), "mean", tables[0].channels[0], attributes)
    expected = [float(t.column(t.channels[0], "mean").mean()) for t in tables]
    assert [one.value for one in found] == pytest.approx(expected, rel=1e-15)
