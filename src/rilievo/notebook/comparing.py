"""Groups of samples side by side: numbers, sentences, a figure, a report."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from html import escape
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rilievo.core.compare import Comparison, Question, sentences
from rilievo.core.compare import compare as compare_tables
from rilievo.core.compare.choices import open_channel
from rilievo.core.compare.plots.figure_look import FigureLook
from rilievo.core.compare.result_tables import groups_frame, tests_frame
from rilievo.core.method.method import checked_copy
from rilievo.core.report.figures import encoded, save_figure
from rilievo.core.report.page import Contents, attributes_of
from rilievo.core.report.study_report import write_study_report
from rilievo.core.table.table import RegionTable
from rilievo.notebook.batch import Batch

if TYPE_CHECKING:
    import pandas


@dataclass(frozen=True, eq=False)
class ComparedGroups:
    """A comparison with its numbers, its sentences and its figure.

    Parameters
    ----------
    comparison : Comparison
        All of it, as the core has it.

    Examples
    --------
    >>> import numpy as np
    >>> from rilievo import Method, Sample, measure_batch
    >>> rising = [Sample.from_array(np.eye(4) * k, name=f"s{k}") for k in range(1, 7)]
    >>> compared = compare(measure_batch(rising, Method(), groups=["a"] * 3 + ["b"] * 3))
    >>> compared
    <ComparedGroups: gray, mean per cell (counts), a, b>
    >>> compared.groups["mean"].tolist()
    [2.0, 5.0]
    """

    comparison: Comparison

    @property
    def groups(self) -> pandas.DataFrame:
        """A row a group: number of samples, mean, spread, interval."""
        return groups_frame([self.comparison]).to_pandas()

    @property
    def tests(self) -> pandas.DataFrame:
        """A row a pair of groups: difference, interval, test, p, effect size."""
        return tests_frame([self.comparison]).to_pandas()

    @property
    def sentences(self) -> list[str]:
        """The result in words."""
        return sentences(self.comparison)

    def __repr__(self) -> str:
        compared = self.comparison
        return f"<ComparedGroups: {compared.label}, {', '.join(compared.groups)}>"

    def _repr_html_(self) -> str:
        paragraphs = "".join(f"<p>{escape(sentence)}</p>" for sentence in self.sentences)
        return f"<div>{plot(self).svg}{paragraphs}</div>"


@dataclass(frozen=True, eq=False)
class Figure:
    """A drawn comparison.

    Parameters
    ----------
    compared : ComparedGroups
        What is drawn.
    svg : str
        As a picture that a notebook shows.

    Examples
    --------
    >>> import numpy as np
    >>> from rilievo import Method, Sample, measure_batch
    >>> pair = [Sample.from_array(np.eye(4) * k, name=f"s{k}") for k in (1, 2)]
    >>> figure = plot(compare(measure_batch(pair, Method(), groups=["a", "b"])))
    >>> figure.svg[:4]
    '<svg'
    """

    compared: ComparedGroups
    svg: str

    def save(self, path: str | Path) -> None:
        """Write it as PNG, SVG or PDF, by the name's ending. Raises FileUnreadable."""
        save_figure([self.compared.comparison], Path(path), FigureLook())

    def __repr__(self) -> str:
        return f"<Figure of {self.compared.comparison.label}>"

    def _repr_svg_(self) -> str:
        return self.svg


def compare(
    measured: Batch | Sequence[RegionTable],
    quantity: str = "mean",
    channel: str = "",
    **asked: Any,
) -> ComparedGroups:
    """Compare a quantity of a channel between groups of samples.

    Parameters
    ----------
    measured : Batch or sequence of RegionTable
        What was measured.
    quantity : str, optional
        Key of a quantity that was measured.
    channel : str, optional
        "" is the first that the class of a batch is not found on.
    **asked : Any
        Fields of a question, such as `against` (the group of reference), `unit`, `by`, `test`
        ("means" or "ranks"), `region_class`, `pairs`.

    Returns
    -------
    ComparedGroups

    Raises
    ------
    ComparisonError
        Where nothing was measured.
    MethodError
        For a field that is not known.

    Examples
    --------
    >>> import numpy as np
    >>> from rilievo import Method, Sample, measure_batch
    >>> rising = [Sample.from_array(np.eye(4) * k, name=f"s{k}") for k in range(1, 7)]
    >>> batch = measure_batch(rising, Method(), groups=["a"] * 3 + ["b"] * 3)
    >>> compare(batch, "mean", against="b").tests["difference"].tolist()
    [-3.0]
    """
    tables = measured.tables if isinstance(measured, Batch) else list(measured)
    attributes = attributes_of(measured.outcomes) if isinstance(measured, Batch) else None
    question = checked_copy(Question(), quantities=(quantity,), channel=channel, **asked)
    if isinstance(measured, Batch) and not channel:
        channels = tuple(dict.fromkeys(name for table in tables for name in table.channels))
        question = checked_copy(question, channel=open_channel(question, channels, measured.method))
    return ComparedGroups(compare_tables(tables, question, attributes))


def plot(compared: ComparedGroups, kind: str = "") -> Figure:
    """Draw a comparison, in the way of its question or as another kind of plot.

    Parameters
    ----------
    compared : ComparedGroups
        What is drawn.
    kind : str, optional
        A key of `rilievo.core.compare.plots.PLOTS`, such as "dots", "box".

    Returns
    -------
    Figure

    Raises
    ------
    MethodError
        For a kind that is not known.

    Examples
    --------
    >>> import numpy as np
    >>> from rilievo import Method, Sample, measure_batch
    >>> pair = [Sample.from_array(np.eye(4) * k, name=f"s{k}") for k in (1, 2)]
    >>> plot(compare(measure_batch(pair, Method(), groups=["a", "b"])), "box")
    <Figure of gray, mean per cell (counts)>
    """
    shown = compared
    if kind:
        question = checked_copy(compared.comparison.question, shown_as=kind)
        shown = ComparedGroups(replace(compared.comparison, question=question))
    svg = encoded([shown.comparison], "svg", FigureLook(), clear=True).decode()
    return Figure(shown, svg[svg.index("<svg") :])


def report(batch: Batch, path: str | Path, title: str = "", **asked: Any) -> Path:
    """Write a batch's report.

    Parameters
    ----------
    batch : Batch
        What was measured.
    path : str or Path
        HTML or PDF by its ending.
    title : str, optional
        The study's name in it.
    **asked : Any
        Fields of a question that its comparisons have.

    Returns
    -------
    Path
        Where it is.

    Raises
    ------
    FileUnreadable
        Where it cannot be written.

    Examples
    --------
    >>> import numpy as np
    >>> from rilievo import Method, Sample, measure_batch
    >>> batch = measure_batch([Sample.from_array(np.eye(4), name="diagonal")], Method())
    >>> report(batch, "report.html").name
    'report.html'
    """
    date = datetime.now().astimezone().isoformat(timespec="seconds")
    contents = Contents(batch.outcomes, batch.method, date=date, study=title, asked=asked)
    write_study_report(contents, Path(path))
    return Path(path)
