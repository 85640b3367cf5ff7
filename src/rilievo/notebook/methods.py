"""Methods by file or by name, with values of one's own."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from rilievo.core.method.library import find_method
from rilievo.core.method.method import Method
from rilievo.core.method.typed_values import with_values


def load_method(word: str | Path, values: dict[str, Any] | None = None) -> Method:
    """Return a method of a file, or by its name.

    Parameters
    ----------
    word : str or Path
        A file, or a name that `rilievo methods` lists.
    values : dict of str to Any, optional
        NAME.PARAMETER → value in place of the method's, as `rilievo run --set` has them.

    Returns
    -------
    Method

    Raises
    ------
    MethodError
        For a name or a value that is not known, with the nearest that is.
    FileMissing
        For a file that is not there.

    Examples
    --------
    >>> load_method("Star field").name
    'Star field'
    """
    return with_values(find_method(str(word))[0], values or {})
