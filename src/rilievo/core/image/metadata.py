"""What a file says of itself, as a tree of names and values that can be searched and copied."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any
from xml.etree import ElementTree

# A value longer than this is cut; nobody reads a whole look-up table in a list.
_MOST_CHARACTERS = 20_000
_MOST_CHILDREN = 20_000

# What is lifted into a sample's attributes, under the names that files use for it.
ATTRIBUTE_NAMES: Mapping[str, tuple[str, ...]] = {
    "date": ("DATE-OBS", "AcquisitionDate", "DateTimeOriginal", "DateTime"),
    "exposure": ("EXPTIME", "EXPOSURE", "ExposureTime"),
    "gain": ("EGAIN", "GAIN"),
    "read noise": ("RDNOISE", "READNOIS", "RON"),
    "filter": ("FILTER", "FILTER1", "Filter"),
    "object": ("OBJECT",),
    "objective": ("Objective", "OBJECTIV"),
    "instrument": ("INSTRUME", "Model"),
}


@dataclass(frozen=True)
class MetadataNode:
    """A name with a value, or with further names below it; `note` is the file's own comment."""

    name: str
    value: str = ""
    children: tuple[MetadataNode, ...] = ()
    note: str = ""

    def as_text(self, depth: int = 0) -> str:
        """Return the node and all below it, one a line, indented, name and value by a tab."""
        words = [self.name, self.value, self.note]
        line = "  " * depth + "\t".join(words).rstrip("\t")
        return "\n".join([line, *(child.as_text(depth + 1) for child in self.children)])

    def walk(self) -> Iterator[MetadataNode]:
        """Yield the node and all below it."""
        yield self
        for child in self.children:
            yield from child.walk()


def leaf(name: str, value: Any) -> MetadataNode:
    """Return a node without children; a value that is too long is cut."""
    if isinstance(value, bytes):
        value = value.decode("latin-1").rstrip("\0")
    text = str(value).strip()
    if len(text) > _MOST_CHARACTERS:
        text = text[:_MOST_CHARACTERS] + " …"
    return MetadataNode(str(name), text)


def matching(nodes: Iterable[MetadataNode], text: str) -> tuple[MetadataNode, ...]:
    """Return the nodes whose name or value holds a text, with the way to them.

    A node that matches by its own name keeps all that is below it.
    """
    searched = text.casefold().strip()
    if not searched:
        return tuple(nodes)
    found = []
    for node in nodes:
        if any(searched in text.casefold() for text in (node.name, node.value, node.note)):
            found.append(node)
        elif below := matching(node.children, text):
            found.append(MetadataNode(node.name, node.value, below))
    return tuple(found)


def attributes_in(nodes: Iterable[MetadataNode]) -> dict[str, str]:
    """Return what is known under ATTRIBUTE_NAMES; the first index in the file counts."""
    text_of: dict[str, str] = {}
    for node in nodes:
        for inner in node.walk():
            text = inner.value or _make_of(inner)
            if text:
                text_of.setdefault(inner.name, text)
    result = {}
    for attribute, names in ATTRIBUTE_NAMES.items():
        value = next((text_of[name] for name in names if text_of.get(name)), "")
        if value:
            result[attribute] = value
    return result


def stated_number(attributes: Mapping[str, str], name: str) -> float:
    """Return the number that an attribute begins with; 0 where there is none above 0."""
    words = attributes.get(name, "").split()
    try:
        value = float(words[0]) if words else 0.0
    except ValueError:
        return 0.0
    return value if 0 < value < math.inf else 0.0


def _make_of(node: MetadataNode) -> str:
    """An objective or filter in OME-XML as one text: its model, or magnification and aperture."""
    facts = {child.name: child.value for child in node.children}
    if "Model" in facts:
        return facts["Model"]
    words = []
    if "NominalMagnification" in facts:
        words.append(f"{facts['NominalMagnification'].removesuffix('.0')}×")
    if "LensNA" in facts:
        words.append(f"NA {facts['LensNA']}")
    return " ".join(words)


def xml_nodes(text: str) -> tuple[MetadataNode, ...]:
    """Return an XML text as nodes: elements with their attributes; nothing for broken XML."""
    try:
        root = ElementTree.fromstring(text)  # noqa: S314 (expat limits entity expansion)
    except ElementTree.ParseError:
        return ()
    return (_element(root),)


def _element(element: ElementTree.Element) -> MetadataNode:
    children = [leaf(_plain(name), value) for name, value in element.items()]
    children += [_element(child) for child in list(element)[:_MOST_CHILDREN]]
    value = leaf("", element.text or "").value
    return MetadataNode(_plain(element.tag), value, tuple(children))


def _plain(tag: str) -> str:
    return tag.rpartition("}")[2]


def mapping_nodes(data: Any, name: str) -> MetadataNode:
    """Return nested dictionaries and lists, as JSON gives them, as nodes."""
    if isinstance(data, Mapping):
        children = tuple(mapping_nodes(value, str(key)) for key, value in data.items())
        return MetadataNode(name, "", children)
    if isinstance(data, list) and any(isinstance(value, dict | list) for value in data):
        children = tuple(mapping_nodes(value, str(i + 1)) for i, value in enumerate(data))
        return MetadataNode(name, "", children)
    return leaf(name, data)
