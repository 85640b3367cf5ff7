"""A packed study as a research object crate: what its files are, who made them, and how.

The metadata follow RO-Crate 1.1 (https://w3id.org/ro/crate/1.1), an open standard: JSON-LD with
the terms of schema.org. What came from what is said in the terms of W3C PROV beside.
"""

from __future__ import annotations

import json
import mimetypes
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any
from urllib.parse import quote

METADATA_NAME = "ro-crate-metadata.json"
_SPECIFICATION = "https://w3id.org/ro/crate/1.1"
_CONTEXT = [
    f"{_SPECIFICATION}/context",
    {
        "sha256": "https://schema.org/sha256",
        "prov": "http://www.w3.org/ns/prov#",
        "wasGeneratedBy": {"@id": "prov:wasGeneratedBy", "@type": "@id"},
        "wasDerivedFrom": {"@id": "prov:wasDerivedFrom", "@type": "@id"},
        "used": {"@id": "prov:used", "@type": "@id"},
        "wasAssociatedWith": {"@id": "prov:wasAssociatedWith", "@type": "@id"},
    },
]
_TYPES = {
    ".rilievo": "application/vnd.sqlite3", ".json": "application/json", ".csv": "text/csv",
    ".tif": "image/tiff", ".tiff": "image/tiff", ".fits": "application/fits",
}  # fmt: skip
_PROGRAM = "#rilievo"
_MEASURING, _METHOD = "#measuring", "method.json"


@dataclass(frozen=True)
class CrateFile:
    """A file of a crate. name : its path in it. about : what it is. role : "image" of those that
    were measured, "result" of what was made of them, "" of others.
    """

    name: str
    size: int
    sha256: str
    about: str
    role: str = ""


def crate_metadata(
    title: str,
    files: Sequence[CrateFile],
    date: str,
    versions: Mapping[str, str],
    *,
    authors: Sequence[str] = (),
    licence: str = "",
    code: str = "",
) -> str:
    """Return the metadata of a crate as JSON-LD text.

    date : when it was published, as ISO 8601. versions : of the program and its packages. licence :
    an address, or words. authors : as typed; an ORCID in brackets behind a name is its identifier.
    """
    people = [_person(author, number) for number, author in enumerate(authors, start=1)]
    images = [_id(file.name) for file in files if file.role == "image"]
    results = [_id(file.name) for file in files if file.role == "result"]
    graph: list[dict[str, Any]] = [
        {
            "@id": METADATA_NAME,
            "@type": "CreativeWork",
            "conformsTo": {"@id": _SPECIFICATION},
            "about": {"@id": "./"},
        },
        {
            "@id": "./",
            "@type": "Dataset",
            "name": title,
            "description": f"Measurements of images, with the images: {title}"
            + (f". Code of the whole: {code}." if code else "."),
            "datePublished": date,
            "license": _licence_of(licence),
            "hasPart": _links(_id(file.name) for file in files),
            **({"author": _links(person["@id"] for person in people)} if people else {}),
            "mentions": {"@id": _MEASURING},
        },
        *people,
        *_licence(licence),
        {
            "@id": _PROGRAM,
            "@type": "SoftwareApplication",
            "name": "Rilievo",
            "version": versions.get("rilievo", ""),
            "softwareRequirements": [
                f"{name} {version}" for name, version in versions.items() if name != "rilievo"
            ],
        },
        {
            "@id": _MEASURING,
            "@type": "CreateAction",
            "name": "Measuring of the images by the method",
            "instrument": _links([_PROGRAM, _METHOD]),
            "object": _links(images),
            "result": _links(results),
            "endTime": date,
            **({"agent": _links(person["@id"] for person in people)} if people else {}),
            "used": _links([*images, _METHOD]),
            **({"wasAssociatedWith": _links(person["@id"] for person in people)} if people else {}),
        },
        *(_file(file, images) for file in files),
    ]
    return json.dumps({"@context": _CONTEXT, "@graph": graph}, indent=2, ensure_ascii=False) + "\n"


def _id(name: str) -> str:
    """A path as an address within the crate."""
    return quote(name)


def _links(ids: Iterable[str]) -> Any:
    links = [{"@id": identifier} for identifier in ids]
    return links[0] if len(links) == 1 else links


def _person(author: str, number: int) -> dict[str, Any]:
    name, _, rest = author.partition("(")
    orcid = rest.strip(" )")
    has_orcid = orcid.startswith("https://orcid.org/")
    return {
        "@id": orcid if has_orcid else f"#person-{number}",
        "@type": "Person",
        "name": name.strip() if has_orcid else author.strip(),
    }


def _licence_of(licence: str) -> Any:
    if licence.startswith(("https://", "http://")):
        return {"@id": licence}
    return licence or "Not stated: ask the authors before using it."


def _licence(licence: str) -> list[dict[str, Any]]:
    if not licence.startswith(("https://", "http://")):
        return []
    return [{"@id": licence, "@type": "CreativeWork", "name": f"Licence {licence}"}]


def _file(file: CrateFile, images: Sequence[str]) -> dict[str, Any]:
    ending = "." + file.name.rpartition(".")[2].lower()
    kind = _TYPES.get(ending) or mimetypes.guess_type(file.name)[0]
    return {
        "@id": _id(file.name),
        "@type": "File",
        "name": file.name.rpartition("/")[2],
        "description": file.about,
        "contentSize": str(file.size),
        "sha256": file.sha256,
        **({"encodingFormat": kind} if kind else {}),
        **(
            {"wasGeneratedBy": {"@id": _MEASURING}, "wasDerivedFrom": _links(images)}
            if file.role == "result"
            else {}
        ),
    }
