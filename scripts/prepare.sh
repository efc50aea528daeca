# Sets up everything the product needs, for ./demo and ./test to source. Call: prepare [dev]
# A second call finds the stamp and does nothing.

ROOT=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
VENV="$ROOT/.venv"
PYTHON="$VENV/bin/python"
SYSTEM_PACKAGES="libegl1 libgl1 libxkbcommon0 libdbus-1-3 libfontconfig1 libglib2.0-0 libxkbcommon-x11-0 libxcb-cursor0 libxcb-icccm4 libxcb-image0 libxcb-keysyms1 libxcb-randr0 libxcb-render-util0 libxcb-shape0 libxcb-xinerama0 libxcb-xkb1"

say() { printf '%s\n' "$*" >&2; }

# Names differ between releases: Ubuntu 24.04 and Debian 13 call one library libglib2.0-0t64.
available() {
    for package in $SYSTEM_PACKAGES; do
        if dpkg -s "$package" >/dev/null 2>&1 || dpkg -s "${package}t64" >/dev/null 2>&1; then continue; fi
        if apt-cache show "${package}t64" >/dev/null 2>&1; then echo "${package}t64"; else echo "$package"; fi
    done
}

install_system_packages() {
    command -v dpkg >/dev/null 2>&1 || return 0
    local missing sudo=""
    missing=$(available "$@")
    [ -n "$missing" ] || return 0
    if [ "$(id -u)" -ne 0 ]; then
        if command -v sudo >/dev/null 2>&1 && sudo -n true 2>/dev/null; then
            sudo="sudo"
        else
            say "Qt needs system libraries that are missing. Run this once, then try again:"
            say "    sudo apt-get install -y" $missing
            return 0
        fi
    fi
    say "Installing system libraries that Qt needs: $(echo $missing)"
    $sudo apt-get update -qq >&2 || true
    $sudo env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $(available) >/dev/null || {
        say "That did not work. Run this yourself, then try again:"
        say "    sudo apt-get install -y" $missing
    }
}

# The newest Python that is here and new enough; nothing where there is none.
present_python() {
    for candidate in python3.13 python3.12 python3.11 python3; do
        if "$candidate" -c 'import sys; sys.exit(sys.version_info < (3, 11))' >/dev/null 2>&1; then
            echo "$candidate"
            return 0
        fi
    done
    return 1
}

# Before anything else: without Python nothing that follows makes sense.
find_python() {
    present_python && return 0
    if [ "$(id -u)" -eq 0 ] && command -v apt-get >/dev/null 2>&1; then
        say "Installing Python, which this machine does not have in version 3.11 or newer"
        { apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq python3 python3-venv; } >/dev/null 2>&1
        present_python && return 0
    fi
    local version
    version=$(python3 --version 2>/dev/null) || version="no Python"
    say "Faithful Ledger needs Python 3.11 or newer, and this machine has $version. Nothing was installed."
    say "Run this once, then try again:"
    say "    sudo apt-get install -y python3 python3-venv"
    return 1
}

make_venv() {
    local python=$1
    if ! "$python" -m venv "$VENV" >/dev/null 2>&1; then
        rm -rf "$VENV"
        if [ "$(id -u)" -eq 0 ] && command -v apt-get >/dev/null 2>&1; then
            apt-get update -qq >&2 && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq python3-venv >/dev/null
        fi
        "$python" -m venv "$VENV" || {
            say "Python's venv module is missing. Run this once, then try again:"
            say "    sudo apt-get install -y python3-venv"
            return 1
        }
    fi
}

prepare() {
    local kind=${1:-run} stamp sum
    stamp="$VENV/.prepared-$kind"
    sum=$(cat "$ROOT/requirements.txt" "$ROOT/requirements-dev.txt" "$ROOT/pyproject.toml" "$ROOT/scripts/prepare.sh" | sha256sum)
    if [ -x "$PYTHON" ] && [ "$(cat "$stamp" 2>/dev/null)" = "$sum" ]; then return 0; fi
    local python=""
    if [ ! -x "$PYTHON" ]; then python=$(find_python) || return 1; fi
    install_system_packages
    if [ -n "$python" ]; then
        say "Making $VENV …"
        make_venv "$python" || return 1
    fi
    say "Installing pinned packages …"
    "$PYTHON" -m pip install -q --disable-pip-version-check -r "$ROOT/requirements.txt" 2>&1 | grep -v "^WARNING: Location" >&2
    if [ "$kind" = dev ]; then
        "$PYTHON" -m pip install -q --disable-pip-version-check -r "$ROOT/requirements-dev.txt" 2>&1 | grep -v "^WARNING: Location" >&2
    fi
    "$PYTHON" -m pip install -q --disable-pip-version-check --no-deps -e "$ROOT" 2>&1 | grep -v "^WARNING: Location" >&2
    "$PYTHON" -c 'import PySide6.QtWidgets, numpy, pydantic, ruamel.yaml, yaml, zstandard, lz4, psutil, platformdirs, rich, watchdog, faithful_ledger' || {
        say "The set-up is not complete; the line above says what is missing."
        return 1
    }
    echo "$sum" > "$stamp"
}
