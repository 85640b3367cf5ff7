"""What describes the program to systems says the same as the program."""

from __future__ import annotations

import re
import shutil
import subprocess
import sys
import tomllib
import xml.etree.ElementTree as ET
from importlib import util
from pathlib import Path
from typing import Any

import pytest
import yaml

from rilievo._version import __version__

ROOT = Path(__file__).parents[2]
PROJECT = tomllib.loads((ROOT / "pyproject.toml").read_text(encoding="utf-8"))["project"]
METAINFO = ROOT / "share/metainfo/org.rilievo.Rilievo.metainfo.xml"


def builder() -> Any:
    spec = util.spec_from_file_location("distribution_build", ROOT / "distribution/build.py")
    assert spec is not None
    assert spec.loader is not None
    module = util.module_from_spec(spec)
    sys.modules[spec.name] = module
    spec.loader.exec_module(module)
    return module


def test_versions_agree() -> None:
    assert builder().version() == __version__
    recipe = yaml.safe_load((ROOT / "distribution/conda/recipe.yaml").read_text(encoding="utf-8"))
    assert recipe["context"]["version"] == __version__
    release = ET.parse(METAINFO).find("releases/release")  # noqa: S314
    assert release is not None
    assert release.get("version") == __version__


def test_the_recipe_has_the_ranges_of_the_project() -> None:
    recipe = yaml.safe_load((ROOT / "distribution/conda/recipe.yaml").read_text(encoding="utf-8"))
    other = {"matplotlib": "matplotlib-base", "astropy": "astropy-base", "pyqt6": "pyqt"}
    wanted = [*PROJECT["dependencies"], *PROJECT["optional-dependencies"]["window"]]
    expected = set()
    for text in wanted:
        name, limits = re.fullmatch(r"([A-Za-z0-9_.-]+?)((?:[<>=]).*)", text).groups()  # type: ignore[union-attr]
        expected.add(f"{other.get(name.lower(), name.lower())} {limits}")
    listed = {one for one in recipe["requirements"]["run"] if not one.startswith("python ")}
    assert listed == expected


def test_the_manifest_takes_every_shared_file() -> None:
    text = (ROOT / "distribution/flatpak/org.rilievo.Rilievo.yml").read_text(encoding="utf-8")
    manifest = yaml.safe_load(text)
    assert manifest["id"] == METAINFO.name.removesuffix(".metainfo.xml")
    commands = " ".join(manifest["modules"][0]["build-commands"])
    for path in (ROOT / "share").rglob("*"):
        if path.is_file() and "man" not in path.parts:
            assert str(path.relative_to(ROOT)) in commands


def test_the_packages_bring_the_parts_of_qt_that_are_used() -> None:
    used = set()
    for path in (ROOT / "src/rilievo").rglob("*.py"):
        used |= set(re.findall(r"from PyQt6\.(Qt\w+)", path.read_text(encoding="utf-8")))
    assert used <= set(builder().QT_MODULES)


def test_the_debian_package_needs_what_the_set_up_installs() -> None:
    prepare = (ROOT / "script/prepare.sh").read_text(encoding="utf-8")
    listed = set(re.search(r"system_packages=\((.*?)\)", prepare, re.DOTALL)[1].split())  # type: ignore[index]
    needs = {one.split()[0] for one in builder().DEB_NEEDS.split(", ")}
    # A virtual screen and further fonts are for the tests.
    assert listed - needs == {"xvfb", "fontconfig", "fonts-dejavu-core"}


@pytest.mark.skipif(shutil.which("appstreamcli") is None, reason="appstreamcli is not installed")
def test_the_metadata_for_software_centres_is_valid() -> None:
    order = ["appstreamcli", "validate", "--no-net", str(METAINFO)]
    done = subprocess.run(order, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout


@pytest.mark.skipif(shutil.which("desktop-file-validate") is None, reason="not installed")
def test_the_menu_entry_is_valid() -> None:
    order = ["desktop-file-validate", str(ROOT / "share/applications/rilievo.desktop")]
    done = subprocess.run(order, capture_output=True, text=True, check=False)
    assert (done.returncode, done.stdout) == (0, "")


@pytest.mark.slow
def test_the_wheel_holds_program_documents_and_shared_files(tmp_path: Path) -> None:
    import zipfile  # noqa: PLC0415

    wheel = builder().build_wheel(tmp_path)
    names = set(zipfile.ZipFile(wheel).namelist())
    assert {"rilievo/docs/guide.md", "rilievo/share/applications/rilievo.desktop"} <= names
    assert "rilievo/core/method/shipped/star-field.json" in names
    assert not any(name.startswith(("tests/", "bench/")) for name in names)
    order = [sys.executable, "-m", "twine", "check", "--strict", *map(str, tmp_path.iterdir())]
    subprocess.run(order, check=True, capture_output=True)
