"""Images that are given as URLs: listed, and copied to this machine while they are measured.

Addresses are those that fsspec understands, such as https:// and s3://; this is the only module
that imports it. Install it with `pip install rilievo[remote]`; object stores want a package of
their own beside. Of an OME-Zarr image only the full level is copied.
"""

from __future__ import annotations

import contextlib
import re
import shutil
import tempfile
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path, PurePosixPath
from typing import Any, TypeVar
from urllib.parse import unquote, urlsplit, urlunsplit

from rilievo.core.errors import (
    FileMissing,
    FileUnreadable,
    NotAnImage,
    RilievoError,
    TooLarge,
)
from rilievo.core.files.reader import image_suffixes
from rilievo.core.files.zarr import METADATA_NAMES, block_names, full_level
from rilievo.core.temporary_files import listed

T = TypeVar("T")

_URL = re.compile(r"[A-Za-z][A-Za-z0-9+.-]*://.")
_ZARR = (".zarr",)
# A folder of folders ends somewhere, also where a server links in a circle.
_DEEPEST = 12
_MOST_FOLDERS = 100_000
# Blocks that are under way at a time, and are held in memory.
_BLOCKS = 64
_TRIES = 3
# Seconds for a server to be reached, and for it to go on sending.
_CONNECT, _SEND = 20, 60


class RemoteError(RilievoError):
    """An address cannot be used; the message says why, and what to do."""


def is_url(text: str) -> bool:
    """Whether a text is a URL rather than a path."""
    return bool(_URL.match(text))


def public_url(url: str) -> str:
    """Return a URL without what is secret: user, password, and what follows a question mark."""
    parts = urlsplit(url)
    host = parts.netloc.rpartition("@")[2]
    return urlunsplit((parts.scheme, host, parts.path, "", ""))


def path_of(url: str) -> Path:
    """Return a URL as the path that names a sample and its file; nothing is at that path."""
    parts = urlsplit(url)
    return Path(f"{parts.scheme}:", parts.netloc.rpartition("@")[2], unquote(parts.path).strip("/"))


def images_at(url: str) -> list[str]:
    """Return the URLs of the images that a URL stands for: itself, or those in it and below.

    Raises RemoteError where it cannot be listed, or holds no image.
    """
    ending = PurePosixPath(urlsplit(url).path.rstrip("/")).name.lower()
    if not url.endswith("/") and ending.endswith(image_suffixes()):
        return [url]
    if ending.endswith(_ZARR):
        return [url.rstrip("/")]
    files, root = _file_system(url)
    urls: list[str] = []
    waiting, seen = [(root, 0)], {root.rstrip("/")}
    while waiting:
        folder, depth = waiting.pop()
        for name, is_folder in _listing(files, folder, url):
            bare = name.rstrip("/")
            if bare in seen or not bare.startswith(root.rstrip("/") + "/"):
                continue
            seen.add(bare)
            if bare.lower().endswith(_ZARR) or (
                not is_folder and bare.lower().endswith(image_suffixes())
            ):
                urls.append(str(files.unstrip_protocol(bare)))
            elif is_folder:
                if depth >= _DEEPEST or len(seen) > _MOST_FOLDERS:
                    raise RemoteError(
                        f"“{public_url(url)}” has too many folders in one another; name one "
                        "farther down."
                    )
                waiting.append((name, depth + 1))
    if not urls:
        raise RemoteError(
            f"“{public_url(url)}” lists no image; name images by their URLs, or a folder that "
            "its server lists."
        )
    return sorted(urls)


@contextlib.contextmanager
def local_copy(url: str, image: int = 0) -> Iterator[Path]:
    """Copy the image at a URL to a temporary file, which is removed at the end.

    image : which image of a file with several. Raises a FileError, RemoteError.
    """
    name = path_of(url).name
    with (
        tempfile.TemporaryDirectory(prefix="rilievo-") as temporary,
        listed(Path(temporary)),
    ):
        target = Path(temporary, name)
        files, root = _file_system(url)
        if name.lower().endswith(_ZARR):
            _copy_zarr(files, root, target, image)
        else:
            _check_space(files, root, target)
            _tried(target, lambda: files.get_file(root, str(target)))
        yield target


def _file_system(url: str) -> tuple[Any, str]:
    """The file system of a URL, and what the URL is called in it."""
    try:
        import fsspec  # noqa: PLC0415 (an optional package)
    except ImportError as exc:
        raise RemoteError(
            "A URL needs the packages of the extra “remote”: pip install 'rilievo[remote]'."
        ) from exc
    try:
        options: dict[str, Any] = {}
        if url.lower().startswith(("http://", "https://")):
            import aiohttp  # noqa: PLC0415 (an optional package)

            patience = aiohttp.ClientTimeout(total=None, sock_connect=_CONNECT, sock_read=_SEND)
            options = {"client_kwargs": {"timeout": patience}}
        files, root = fsspec.core.url_to_fs(url, **options)
    except ImportError as exc:
        raise RemoteError(f"“{public_url(url)}” needs another package: {exc}.") from exc
    except ValueError as exc:
        raise RemoteError(
            f"“{public_url(url)}” is no address of a known kind ({exc}); https:// and s3:// are "
            "some."
        ) from exc
    return files, str(root)


def _listing(files: Any, folder: str, url: str) -> list[tuple[str, bool]]:
    """The names in a folder, and whether each is a folder."""
    try:
        entries = files.ls(folder, detail=True)
    except Exception as exc:  # file systems raise what their packages raise
        raise RemoteError(
            f"“{public_url(url)}” cannot be listed ({_first_line(exc)}); check the address and "
            "your access to it, or name images by their URLs."
        ) from exc
    return [
        (str(entry["name"]), entry.get("type") == "directory" or str(entry["name"]).endswith("/"))
        for entry in entries
    ]


def _first_line(exc: BaseException) -> str:
    lines = str(exc).strip().splitlines()
    return lines[0][:160] if lines else type(exc).__name__


def _tried(path: Path, work: Callable[[], T]) -> T:
    """Do something over a network, again where it failed for a while. Raises a FileError."""
    for attempt in range(_TRIES):
        try:
            return work()
        except FileNotFoundError as exc:
            raise FileMissing(
                path, "is not at its address", "check the URL; its server knows no such file"
            ) from exc
        except PermissionError as exc:
            raise FileUnreadable(
                path, "may not be read from its address", "check your access to it"
            ) from exc
        except Exception as exc:  # file systems raise what their packages raise
            if attempt == _TRIES - 1:
                raise FileUnreadable(
                    path,
                    f"could not be copied from its address ({_first_line(exc)})",
                    "check the network, and measure again",
                ) from exc
            time.sleep(0.5 * 4**attempt)
    raise AssertionError("a try ends one way or the other")


def _check_space(files: Any, root: str, target: Path) -> None:
    """Raise TooLarge where a file would fill the folder for temporary files."""
    size = None
    # Some servers do not say; that a file is not there, copying it tells.
    with contextlib.suppress(Exception):
        size = files.info(root).get("size")
    free = shutil.disk_usage(target.parent).free
    if isinstance(size, int) and size > free:
        raise TooLarge(
            target,
            f"has {size / 1e9:.1f} GB, and {target.parent.parent} has {free / 1e9:.1f} GB left",
            "set TMPDIR to a folder with more room",
        )


def _copy_zarr(files: Any, root: str, target: Path, image: int) -> None:
    """Copy the metadata and the full level of an OME-Zarr image; blocks may be absent."""
    root = root.rstrip("/")
    target.mkdir()
    _copy_some(files, root, target, METADATA_NAMES)
    if not any(target.iterdir()):
        raise NotAnImage(
            target, "is no Zarr image at its address", "check the URL, and your access to it"
        )
    level = full_level(target, image)
    _copy_some(files, root, target, [f"{level}/{name}" for name in METADATA_NAMES])
    names = block_names(target, level)
    for first in range(0, len(names), _BLOCKS):
        _copy_some(files, root, target, names[first : first + _BLOCKS])


def _copy_some(files: Any, root: str, target: Path, names: Sequence[str]) -> None:
    """Copy those of several small files that are there."""

    def get(names_asked: Iterable[str]) -> dict[str, Any]:
        contents = files.cat([f"{root}/{name}" for name in names_asked], on_error="return")
        for content in contents.values():
            if isinstance(content, Exception) and not isinstance(content, FileNotFoundError):
                raise content
        return dict(contents)

    try:
        contents = _tried(target, lambda: get(names))
        for name, content in zip(
            names, (contents.get(f"{root}/{name_asked}") for name_asked in names), strict=True
        ):
            if isinstance(content, bytes):
                (target / name).parent.mkdir(parents=True, exist_ok=True)
                (target / name).write_bytes(content)
    except OSError as exc:
        raise FileUnreadable(
            target, f"could not be kept while it is measured ({exc})", "check the disk"
        ) from exc
