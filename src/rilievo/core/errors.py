"""Every error the core raises on purpose, with a sentence a scientist understands.

The sentence says what is wrong, names the file where there is one, and ends with the remedy.
The window and the command line print it as it stands; nothing else catches these.
"""

from __future__ import annotations

from pathlib import Path


class RilievoError(Exception):
    """Base of all errors with a message meant for the user.

    Examples
    --------
    >>> try:
    ...     raise FileMissing("field.tif", "does not exist", "choose another file")
    ... except RilievoError as error:
    ...     print(error)
    “field.tif” does not exist; choose another file.
    """


class Cancelled(RilievoError):
    """The user stopped the work; what was finished before stays."""


class FileError(RilievoError):
    """A file cannot be used; the message is one sentence with its name and the remedy."""

    def __init__(self, path: str | Path, problem: str, remedy: str) -> None:
        self.path = Path(path)
        self.problem = problem
        self.remedy = remedy
        super().__init__(f"“{self.path.name}” {problem}; {remedy}.")

    def __reduce__(self) -> tuple[type[FileError], tuple[Path, str, str]]:
        # A worker process sends its errors back by their parts, not by the joined sentence.
        return type(self), (self.path, self.problem, self.remedy)


class FileMissing(FileError):
    """No such file."""


class FileUnreadable(FileError):
    """The system refuses to read or write it."""


class NotAFile(FileError):
    """A device, a pipe or a socket."""


class FileChanged(FileError):
    """The file changed while it was read, so that its parts do not belong together."""


class FileOutside(FileError):
    """A file leads to another that does not lie below its own folder."""


class FileEmpty(FileError):
    """A file of zero bytes, or an image of zero pixels."""


class FileTruncated(FileError):
    """The file ends before its data do."""


class NotAnImage(FileError):
    """The contents are no image of a known format."""


class UnsupportedKind(FileError):
    """An image, but of a kind that cannot be measured yet."""


class TooLarge(FileError):
    """The pixels do not fit into the memory."""


class MethodError(RilievoError):
    """A method, or a parameter of it, is not valid; the message names the position."""


class StepError(RilievoError):
    """A step cannot be applied to this sample."""


class ArrayError(RilievoError, ValueError):
    """An array is no image, or what was said of it does not fit."""


class StudyError(RilievoError):
    """A study file cannot be read or written."""


class WorkerError(RilievoError):
    """Worker processes cannot be started."""


class WorkerLost(RilievoError):
    """A worker was ended while it was at a sample."""


class ComparisonError(RilievoError):
    """There is nothing to compare as asked."""
