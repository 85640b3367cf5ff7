"""Reading image files: one module a format, behind one registry that looks at the contents."""

from rilievo.core.files.reader import (
    READERS,
    Reader,
    image_suffixes,
    images_below,
    read_sample,
    sample_name,
)

__all__ = ["READERS", "Reader", "image_suffixes", "images_below", "read_sample", "sample_name"]

READERS.discover()
