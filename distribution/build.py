"""Build what is handed out: wheel, sdist, a .deb for Debian 12, and a folder that runs anywhere.

    python distribution/build.py [--out dist] [--only wheel,deb,archive]

Needs no network but the package registries. `script/package` calls it.
"""

from __future__ import annotations

import argparse
import compileall
import gzip
import hashlib
import os
import re
import shutil
import subprocess
import sys
import sysconfig
import textwrap
from collections.abc import Iterable
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
EXTRAS = "window,formats,raw,remote,cluster"
# Tests and headers of other packages, which nobody runs here.
UNUSED = (
    "numpy/**/tests", "scipy/**/tests", "pandas/tests", "numba/tests", "pyarrow/tests",
    "pyarrow/include", "pyarrow/src", "matplotlib/tests", "mpl_toolkits/**/tests", "h5py/tests",
    "distributed/tests", "distributed/**/tests", "dask/**/tests", "bin",
    "pyarrow/*flight*", "pyarrow/*substrait*",
    "PyQt6/Qt6/qml", "PyQt6/Qt6/translations", "PyQt6/bindings",
)  # fmt: skip
# What the window uses of Qt; a test compares this with what the code imports.
QT_MODULES = ("QtCore", "QtGui", "QtWidgets", "QtSvg")
# And what pyqtgraph loads beside it.
QT_BESIDE = ("QtOpenGL", "QtOpenGLWidgets", "QtTest")
QT_LIBRARIES = (
    *QT_MODULES, *QT_BESIDE, "QtDBus", "QtXcbQpa", "QtNetwork",
    "QtWaylandClient", "QtWaylandEglClientHwIntegration", "QtWlShellIntegration",
    "QtEglFSDeviceIntegration", "QtPrintSupport",
)  # fmt: skip
QT_PLUGINS = (
    "generic", "iconengines", "imageformats", "platforminputcontexts", "platforms",
    "platformthemes", "wayland-decoration-client", "wayland-graphics-integration-client",
    "wayland-shell-integration", "xcbglintegrations",
)  # fmt: skip
# Of every Linux system with glibc, or bound to its graphics drivers.
OF_THE_SYSTEM = re.compile(
    r"(ld-linux.*|lib(c|m|dl|rt|pthread|util|resolv|GL|EGL|GLX|GLdispatch|OpenGL|drm|gbm|nsl))\.so.*"
)
# What Qt loads when the window opens, and what sets the pages of PDF reports.
LOADED_LATER = (
    "libxcb-cursor.so.0", "libxcb-icccm.so.4", "libxcb-image.so.0", "libxcb-keysyms.so.1",
    "libxcb-randr.so.0", "libxcb-render-util.so.0", "libxcb-shape.so.0", "libxcb-sync.so.1",
    "libxcb-xfixes.so.0", "libxcb-xkb.so.1", "libxkbcommon-x11.so.0", "libxkbcommon.so.0",
    "libpango-1.0.so.0", "libpangoft2-1.0.so.0", "libharfbuzz-subset.so.0", "libfontconfig.so.1",
    "libgobject-2.0.so.0",
)  # fmt: skip
DEB_NEEDS = (
    "python3 (>= 3.11), python3 (<< 3.12), libegl1, libgl1, libglib2.0-0, libdbus-1-3, "
    "libfontconfig1, libxkbcommon0, libxkbcommon-x11-0, libx11-xcb1, libxcb-cursor0, "
    "libxcb-icccm4, libxcb-image0, libxcb-keysyms1, libxcb-randr0, libxcb-render-util0, "
    "libxcb-shape0, libxcb-sync1, libxcb-xfixes0, libxcb-xinerama0, libxcb-xkb1, libpango-1.0-0, "
    "libpangoft2-1.0-0, libharfbuzz-subset0"
)
START = '''\
#!{python}
"""Start Rilievo with the packages beside it."""

import os
import sys

sys.path.insert(0, {packages})
os.environ.setdefault("RILIEVO_LAUNCHER", {launcher})

if __name__ == "__main__":
    from rilievo.cli import main

    main()
'''


# Libraries that a system lacks are loaded from the folder; those it has are its own, since they
# fit its drivers.
START_ANYWHERE = '''\
"""Start Rilievo with the Python packages of this folder, and libraries that the system lacks."""

import ctypes
import os
import subprocess
import sys

HERE = os.path.dirname(os.path.abspath(__file__))


def load_missing(folder):
    try:
        listed = subprocess.run(
            ["/sbin/ldconfig", "-p"], capture_output=True, text=True, check=False
        ).stdout
    except OSError:
        listed = ""
    known = {line.split()[0] for line in listed.splitlines() if line.startswith("\t")}
    todo = [name for name in sorted(os.listdir(folder)) if name not in known]
    while todo:
        left = []
        for name in todo:
            try:
                ctypes.CDLL(os.path.join(folder, name), ctypes.RTLD_GLOBAL)
            except OSError:
                left.append(name)
        if len(left) == len(todo):
            break
        todo = left


load_missing(os.path.join(HERE, "libraries"))
sys.path.insert(0, os.path.join(HERE, "packages"))
os.environ.setdefault("RILIEVO_LAUNCHER", os.path.join(HERE, "rilievo"))

if __name__ == "__main__":
    from rilievo.cli import main

    main()
'''


def run(*order: object, **more: object) -> str:
    """Run a program; return what it printed."""
    words = [str(word) for word in order]
    done = subprocess.run(words, check=True, text=True, stdout=subprocess.PIPE, **more)  # type: ignore[call-overload]
    return str(done.stdout)


def version() -> str:
    """The version that is built."""
    text = (ROOT / "src/rilievo/_version.py").read_text(encoding="utf-8")
    return re.search(r'__version__ = "(.+)"', text)[1]  # type: ignore[index]


def debian_version() -> str:
    """The same as Debian orders it: a candidate comes before its release."""
    return version().replace("rc", "~rc")


def build_wheel(out: Path) -> Path:
    """Write wheel and sdist; return the wheel."""
    run(sys.executable, "-m", "hatchling", "build", "-d", out, cwd=ROOT)
    return next(out.glob(f"rilievo-{version()}-*.whl"))


def install_packages(wheel: Path, target: Path, python: str) -> None:
    """Put the wheel and all it needs into a folder, in the locked versions."""
    limits = ROOT / "build/package/constraints.txt"
    locked = (ROOT / "requirements.lock").read_text(encoding="utf-8")
    limits.write_text("\n".join(re.findall(r"^(\S+==.*?) \\$", locked, re.MULTILINE)))
    wanted = f"{wheel}[{EXTRAS}]"
    run(python, "-m", "pip", "install", "-qq", "--disable-pip-version-check", "--no-compile",
        "--only-binary", ":all:", "--constraint", limits, "--target", target, wanted)  # fmt: skip
    for pattern in UNUSED:
        for path in list(target.glob(pattern)):
            remove(path)
    remove_unused_qt(target / "PyQt6")


def remove(path: Path) -> None:
    """Remove a file, or a folder with all in it."""
    if path.is_dir() and not path.is_symlink():
        shutil.rmtree(path)
    else:
        path.unlink(missing_ok=True)


def remove_unused_qt(folder: Path) -> None:
    """Leave of Qt what the window uses."""
    for module in folder.glob("Qt*.abi3.so"):
        if module.name.partition(".")[0] not in (*QT_MODULES, *QT_BESIDE):
            remove(module)
    for stub in folder.glob("Qt*.pyi"):
        remove(stub)
    kept = {name.replace("Qt", "libQt6", 1) for name in QT_LIBRARIES}
    for library in (folder / "Qt6/lib").glob("lib*.so*"):
        name = library.name.partition(".")[0]
        if name not in kept and not name.startswith("libicu"):
            remove(library)
    for plugin in (folder / "Qt6/plugins").iterdir():
        if plugin.name not in QT_PLUGINS:
            remove(plugin)
    remove(folder / "Qt6/plugins/imageformats/libqpdf.so")


def debian_python() -> str:
    """The system's own Python, for which the .deb is built."""
    python = "/usr/bin/python3"
    found = run(python, "-c", "import sys; print(*sys.version_info[:2], sep='.')").strip()
    if found != "3.11":
        raise SystemExit(f"The .deb is for Debian 12 and its Python 3.11; this system has {found}.")
    return python


def copy_share(share: Path) -> None:
    """Copy menu entry, icon, file types, metadata and manual pages; these compressed."""
    shutil.copytree(ROOT / "share", share, ignore=shutil.ignore_patterns("man"))
    for page in sorted((ROOT / "share/man/man1").glob("*.1")):
        write_compressed(page.read_bytes(), share / "man/man1" / f"{page.name}.gz")


def write_compressed(content: bytes, path: Path) -> None:
    """Write a gzip file that is the same for the same content."""
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(gzip.compress(content, 9, mtime=0))


def build_deb(wheel: Path, work: Path, out: Path) -> Path:
    """Write the .deb."""
    root = work / "deb"
    packages = root / "usr/lib/rilievo/python"
    packages.parent.mkdir(parents=True)
    install_packages(wheel, packages, sys.executable)
    start = root / "usr/bin/rilievo"
    start.parent.mkdir(parents=True)
    start.write_text(
        START.format(
            python=f"{debian_python()} -I",
            packages="'/usr/lib/rilievo/python'",
            launcher="'/usr/bin/rilievo'",
        )
    )
    start.chmod(0o755)
    run(debian_python(), "-m", "compileall", "-q", "-j", "0", "-s", root, "-p", "/", packages)
    copy_share(root / "usr/share")
    papers = root / "usr/share/doc/rilievo"
    papers.mkdir(parents=True)
    shutil.copy(ROOT / "distribution/deb/copyright", papers / "copyright")
    write_compressed((ROOT / "CHANGELOG.md").read_bytes(), papers / "changelog.gz")
    control = root / "DEBIAN"
    control.mkdir()
    files = [
        path for path in sorted(root.rglob("*")) if path.is_file() and control not in path.parents
    ]
    size = sum(path.stat().st_size for path in files) // 1024
    text = (ROOT / "distribution/deb/control").read_text(encoding="utf-8")
    (control / "control").write_text(
        text.format(version=debian_version(), needs=DEB_NEEDS, size=size), encoding="utf-8"
    )
    sums = (f"{hashlib.md5(p.read_bytes()).hexdigest()}  {p.relative_to(root)}" for p in files)  # noqa: S324
    (control / "md5sums").write_text("\n".join(sums) + "\n")
    for script in ("postinst", "prerm"):
        shutil.copy(ROOT / "distribution/deb" / script, control / script)
        (control / script).chmod(0o755)
    for path in root.rglob("*"):
        if path.is_dir():
            path.chmod(0o755)
    made = out / f"rilievo_{debian_version()}_amd64.deb"
    run("dpkg-deb", "--root-owner-group", "-Zzstd", "-z12", "--build", root, made)
    return made


def build_archive(wheel: Path, work: Path, out: Path) -> Path:
    """Write the archive of one folder with its own Python, which runs where it is unpacked."""
    root = work / f"rilievo-{version()}-linux-x86_64"
    packages = root / "packages"
    packages.parent.mkdir(parents=True)
    install_packages(wheel, packages, sys.executable)
    copy_python(root / "python")
    copy_share(root / "share")
    (root / "start.py").write_text(START_ANYWHERE)
    launcher = root / "rilievo"
    name = f"python{sys.version_info[0]}.{sys.version_info[1]}"
    launcher.write_text(
        textwrap.dedent(f"""\
            #!/bin/sh
            # Starts Rilievo with the Python, packages and libraries of this folder.
            here=$(dirname -- "$(readlink -f -- "$0")")
            LD_LIBRARY_PATH="$here/python/lib${{LD_LIBRARY_PATH:+:$LD_LIBRARY_PATH}}"
            export LD_LIBRARY_PATH
            exec "$here/python/bin/{name}" -I "$here/start.py" "$@"
            """)
    )
    launcher.chmod(0o755)
    for name in ("LICENSE", "README.md", "CHANGELOG.md"):
        shutil.copy(ROOT / name, root / name)
    copy_libraries(root)
    compileall.compile_dir(
        str(packages), quiet=2, workers=os.cpu_count() or 1, stripdir=str(root), prependdir=""
    )
    made = out / f"{root.name}.tar.zst"
    run("tar", "--zstd", "-cf", made, "-C", work, "--owner=0", "--group=0", "--sort=name",
        root.name, env={**os.environ, "ZSTD_CLEVEL": "12", "ZSTD_NBTHREADS": "0"})  # fmt: skip
    return made


def copy_python(target: Path) -> None:
    """Copy the Python that runs this, which finds itself by its place."""
    real = Path(sys.executable).resolve()
    name = f"python{sys.version_info[0]}.{sys.version_info[1]}"
    (target / "bin").mkdir(parents=True)
    shutil.copy2(real, target / "bin" / name)
    skipped = shutil.ignore_patterns(
        "site-packages", "dist-packages", "test", "tests", "idlelib", "ensurepip", "lib2to3",
        "tkinter", "turtledemo", "config-*", "__pycache__",
    )  # fmt: skip
    shutil.copytree(sysconfig.get_path("stdlib"), target / "lib" / name, ignore=skipped)
    (target / "lib" / name / "site-packages").mkdir(exist_ok=True)


def copy_libraries(root: Path) -> None:
    """Copy the shared libraries that the folder's files need and that not every system has."""
    target = root / "libraries"
    target.mkdir()
    listed = dict(
        re.findall(r"^\s+(\S+) .*x86-64.* => (\S+)$", run("/sbin/ldconfig", "-p"), re.MULTILINE)
    )
    own = {path.name for path in root.rglob("*.so*")}
    found = {name: Path(listed[name]) for name in LOADED_LATER if name in listed}
    for path in (root / "python").rglob("*.so*"):
        found |= needed_by(path)
    found |= needed_by(next((root / "python/bin").iterdir()))
    for path in (root / "packages/PyQt6").rglob("*.so*"):
        # The theme of one desktop brings half of that desktop; without it there is another.
        if path.name != "libqgtk3.so":
            found |= needed_by(path)
    for path in list(found.values()):
        found |= needed_by(path)
    for name, path in found.items():
        if name not in own and not OF_THE_SYSTEM.fullmatch(name):
            # Python itself looks beside it for its own library.
            folder = root / "python/lib" if name.startswith("libpython") else target
            shutil.copy(path.resolve(), folder / name)


def needed_by(path: Path) -> dict[str, Path]:
    """The libraries that a file is linked to, name → where they are here."""
    try:
        said = run("ldd", path, stderr=subprocess.DEVNULL)
    except subprocess.CalledProcessError:
        return {}
    pairs = re.findall(r"^\s*(\S+) => (/\S+)", said, re.MULTILINE)
    return {name: Path(place) for name, place in pairs}


def main(words: Iterable[str] | None = None) -> None:
    """Build what is asked for."""
    options = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    options.add_argument("--out", type=Path, default=ROOT / "dist")
    options.add_argument("--only", default="wheel,deb,archive")
    given = options.parse_args(list(words) if words is not None else None)
    wanted = set(given.only.split(","))
    out = given.out.absolute()
    out.mkdir(parents=True, exist_ok=True)
    work = ROOT / "build" / "package"
    shutil.rmtree(work, ignore_errors=True)
    work.mkdir(parents=True)
    made = [build_wheel(out)]
    if "deb" in wanted:
        made.append(build_deb(made[0], work, out))
    if "archive" in wanted:
        made.append(build_archive(made[0], work, out))
    made.append(next(out.glob(f"rilievo-{version()}.tar.gz")))
    for path in made:
        print(f"{path.stat().st_size / 1e6:8.1f} MB  {path}")


if __name__ == "__main__":
    main()
