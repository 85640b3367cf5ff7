# Sourced by script/demo and script/test: makes the machine and the virtual environment ready.
# Safe to run again; a second call only compares two checksums and asks dpkg once.
# shellcheck shell=bash
set -euo pipefail

here="$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)"
venv="$here/.venv"
cd "$here"

# What Qt's xcb platform and offscreen rendering load at run time, a virtual screen, and the
# fonts that a bare system lacks for anything outside the bundled Inter, and what sets PDF pages.
system_packages=(
    libegl1 libgl1 libglib2.0-0 libdbus-1-3 libfontconfig1 libxkbcommon0 libxkbcommon-x11-0
    libx11-xcb1 libxcb-cursor0 libxcb-icccm4 libxcb-image0 libxcb-keysyms1 libxcb-randr0
    libxcb-render-util0 libxcb-shape0 libxcb-sync1 libxcb-xfixes0 libxcb-xinerama0 libxcb-xkb1
    xvfb fontconfig fonts-dejavu-core libpango-1.0-0 libpangoft2-1.0-0 libharfbuzz-subset0
)

say() { printf '%s\n' "$*" >&2; }

find_python() {
    local candidate
    # Never the Python of the environment that is about to be made anew.
    local PATH=":$PATH:"
    PATH="${PATH//:"$venv/bin":/:}"
    PATH="${PATH#:}"
    PATH="${PATH%:}"
    for candidate in "${PYTHON:-}" python3.11 python3.12 python3.13 python3 /usr/bin/python3; do
        [ -n "$candidate" ] && command -v "$candidate" >/dev/null || continue
        if "$candidate" -c 'import sys; sys.exit(not (3, 11) <= sys.version_info[:2] <= (3, 13))' 2>/dev/null; then
            command -v "$candidate"
            return
        fi
    done
    return 1
}

is_installed() { dpkg-query -W -f='${Status}' "$1" 2>/dev/null | grep -q 'ok installed'; }

install_system_packages() {
    command -v dpkg-query >/dev/null || {
        say "This is not a Debian-like system: install the equivalents of these packages yourself: ${system_packages[*]}"
        return 0
    }
    local wanted=("${system_packages[@]}") missing=() name sudo=() found
    # Debian keeps Python's own venv module in a separate package.
    found="$(find_python)" && "$found" -c 'import ensurepip, venv' 2>/dev/null || wanted+=(python3 python3-venv)
    for name in "${wanted[@]}"; do
        # Since 2024 Debian spells some of these with a suffix for 64-bit time.
        is_installed "$name" || is_installed "${name}t64" || missing+=("$name")
    done
    [ ${#missing[@]} -eq 0 ] && return 0
    if [ "$(id -u)" -ne 0 ]; then
        if command -v sudo >/dev/null && sudo -n true 2>/dev/null; then
            sudo=(sudo -n)
        else
            say "These system packages are missing, and installing them needs an administrator:"
            say "    sudo apt-get install ${missing[*]}"
            say "Run that, then this again."
            return 1
        fi
    fi
    say "Installing system packages: ${missing[*]}"
    "${sudo[@]}" apt-get update -qq >&2
    "${sudo[@]}" env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
}

is_ready() { [ -f "$venv/.$1" ] && [ "$(cat "$venv/.$1")" = "$2" ]; }

pip() { "$venv/bin/python" -m pip install -qq --disable-pip-version-check "$@"; }

install_python_packages() {
    local locked project
    locked="$(sha256sum <requirements.lock) $("$python" -V)"
    project="$(sha256sum <pyproject.toml)"
    if ! is_ready locked "$locked" || ! "$venv/bin/python" -c '' 2>/dev/null; then
        say "Setting up the virtual environment in .venv (once, a minute or two) …"
        rm -rf "$venv"
        "$python" -m venv "$venv"
        pip --require-hashes -r requirements.lock
        printf '%s' "$locked" >"$venv/.locked"
    fi
    if ! is_ready project "$project" || ! "$venv/bin/python" -c 'import rilievo' 2>/dev/null; then
        pip --no-deps --no-build-isolation --no-index --editable .
        printf '%s' "$project" >"$venv/.project"
    fi
}

build_loops() {
    # Once for a machine: else the first measurement, or several tests at a time, would wait.
    local loops
    loops="$(find src -name '*_kernels.py' -print0 | sort -z | xargs -0 cat | sha256sum) $(cat "$venv/.locked")"
    is_ready loops "$loops" && return 0
    "$venv/bin/rilievo" prepare >&2
    printf '%s' "$loops" >"$venv/.loops"
}

install_system_packages
python="$(find_python)" || {
    say "Rilievo needs Python 3.11, 3.12 or 3.13. Install one, or name it: PYTHON=/path/to/python $0"
    exit 1
}
install_python_packages
build_loops
export PATH="$venv/bin:$PATH"
# Compiled bytecode halves the start-up time; some environments switch it off.
unset PYTHONDONTWRITEBYTECODE
