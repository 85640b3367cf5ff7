"""Methods by file or by name, with values of one's own."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from rilievo.core.method.library import find_method
from rilievo.core.method.method import Method
from rilievo.core.method.typed_values import with_values


def load_method(word: str | Path, values: dict[str, Any] | None = None) -> Method:
    """Return a method: of a file, or of a name that `rilievo methods` lists.

    values : NAME.PARAMETER → value in place of the method's, as `rilievo run --set` has them.
    Raises MethodError, FileMissing.
    """
    return with_values(find_method(str(word))[0], values or {})
