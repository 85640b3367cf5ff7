"""A packed study is a crate: the rules of RO-Crate 1.1, one by one."""

from __future__ import annotations

import hashlib
import json
import zipfile
from dataclasses import replace
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import pytest

from rilievo.core.method.method import checked_copy
from rilievo.core.study.archive import pack_study
from rilievo.core.study.study import StudyState


@pytest.fixture
def packed(state: StudyState, tmp_path: Path) -> Path:
    authors = ("Ada Byron (https://orcid.org/0000-0001-2345-6789)", "B. Otherone")
    licence = "https://creativecommons.org/licenses/by/4.0/"
    options = checked_copy(state.report, authors=authors, licence=licence)
    path = tmp_path / "a study.rilievo.zip"
    pack_study(replace(state, report=options), path)
    return path


@pytest.fixture
def graph(packed: Path) -> dict[str, dict[str, Any]]:
    with zipfile.ZipFile(packed) as archive:
        text = archive.read("ro-crate-metadata.json").decode("utf-8")
    whole = json.loads(text)
    # The file must be JSON-LD with @context and @graph, flattened, with unique @id.
    assert set(whole) == {"@context", "@graph"}
    assert "https://w3id.org/ro/crate/1.1/context" in whole["@context"]
    ids = [one["@id"] for one in whole["@graph"]]
    assert len(ids) == len(set(ids))
    for one in whole["@graph"]:
        assert one["@type"]
        for value in one.values():
            for part in value if isinstance(value, list) else [value]:
                assert not isinstance(part, dict) or set(part) == {"@id"}
    return {one["@id"]: one for one in whole["@graph"]}


def references(graph: dict[str, dict[str, Any]]) -> set[str]:
    found = set()
    for one in graph.values():
        for value in one.values():
            for part in value if isinstance(value, list) else [value]:
                if isinstance(part, dict):
                    found.add(part["@id"])
    return found


def test_descriptor_and_root(graph: dict[str, dict[str, Any]]) -> None:
    descriptor = graph["ro-crate-metadata.json"]
    assert descriptor["@type"] == "CreativeWork"
    assert descriptor["about"] == {"@id": "./"}
    assert descriptor["conformsTo"] == {"@id": "https://w3id.org/ro/crate/1.1"}
    root = graph["./"]
    assert root["@type"] == "Dataset"
    # MUST: name, description, datePublished (ISO 8601 to the day at least), license.
    assert root["name"] == "A study"
    assert root["description"]
    assert len(root["datePublished"]) >= 10
    assert root["license"] == {"@id": "https://creativecommons.org/licenses/by/4.0/"}


def test_every_file_is_described_and_every_reference_is_there(
    packed: Path, graph: dict[str, dict[str, Any]]
) -> None:
    parts = {one["@id"] for one in graph["./"]["hasPart"]}
    with zipfile.ZipFile(packed) as archive:
        names = {name for name in archive.namelist() if name != "ro-crate-metadata.json"}
        assert {unquote(part) for part in parts} == names
        for part in parts:
            own = graph[part]
            content = archive.read(unquote(part))
            assert own["@type"] == "File"
            assert own["sha256"] == hashlib.sha256(content).hexdigest()
            assert own["contentSize"] == str(len(content))
    # Identifiers of files are relative addresses, in which a space is written %20.
    assert "a%20study.rilievo" in parts
    missing = {one for one in references(graph) if one not in graph}
    assert missing <= {"https://w3id.org/ro/crate/1.1"}


def test_people_and_the_action_that_made_the_numbers(graph: dict[str, dict[str, Any]]) -> None:
    people = [graph[one["@id"]] for one in graph["./"]["author"]]
    assert [one["@id"] for one in people] == [
        "https://orcid.org/0000-0001-2345-6789", "#person-2",
    ]  # fmt: skip
    assert [one["name"] for one in people] == ["Ada Byron", "B. Otherone"]
    action = graph["#measuring"]
    assert action["@type"] == "CreateAction"
    assert {one["@id"] for one in action["instrument"]} == {"#rilievo", "method.json"}
    assert len(action["object"]) == 3
    assert graph["#rilievo"]["@type"] == "SoftwareApplication"
    assert any(text.startswith("numpy ") for text in graph["#rilievo"]["softwareRequirements"])


def test_without_authors_and_licence_that_is_said(state: StudyState, tmp_path: Path) -> None:
    once = tmp_path / "s.rilievo.zip"
    pack_study(state, once)
    with zipfile.ZipFile(once) as archive:
        root = json.loads(archive.read("ro-crate-metadata.json"))["@graph"][1]
    assert root["license"].startswith("Not stated")
    assert "author" not in root
