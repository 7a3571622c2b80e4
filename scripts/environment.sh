# Sourced by ./supple-snare and ./run-tests: makes the private Python environment and the system libraries Qt needs.
# usage: prepare_environment [extra]     sets $python

system_packages="libegl1 libgl1 libxkbcommon-x11-0 libxcb-cursor0 libxcb-icccm4 libxcb-keysyms1 libxcb-shape0 \
libxcb-image0 libxcb-render-util0 libxcb-xinerama0 libdbus-1-3 libfontconfig1 libpulse0 libsndfile1"

find_python() {
    local name
    for name in python3.11 python3.12 python3.13 python3.14 python3; do
        if command -v "$name" >/dev/null 2>&1 &&
            "$name" -c 'import sys, venv, ensurepip; sys.exit(sys.version_info < (3, 11))' >/dev/null 2>&1; then
            echo "$name"
            return 0
        fi
    done
    echo "Supple Snare needs Python 3.11 or newer with venv: install it with 'apt-get install python3 python3-venv'." >&2
    return 1
}

ensure_system_packages() { # the packages to install if the check, a Python statement, fails
    local check=$1 packages=$2
    "$python" -c "$check" >/dev/null 2>&1 && return 0
    if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null 2>&1; then
        echo "Installing system libraries …" >&2
        { apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $packages; } >&2
        "$python" -c "$check" >/dev/null 2>&1 && return 0
    fi
    echo "Some system libraries are missing. Install them with this line, then start again:" >&2
    echo "    sudo apt-get install $packages" >&2
    return 1
}

prepare_environment() {
    local extra=${1:-} stamp wanted base
    local home=${SUPPLE_SNARE_ENV:-$root/.venv}
    python=$home/bin/python
    # One environment serves both commands; the test tools are added to it the first time they are asked for.
    [ -z "$extra" ] && [ -f "$home/.extra" ] && extra=$(cat "$home/.extra")
    stamp=$home/.stamp
    wanted=$(cksum <"$root/pyproject.toml")" $extra $root"
    if [ ! -x "$python" ] || [ "$(cat "$stamp" 2>/dev/null)" != "$wanted" ]; then
        base=$(find_python) || return 1
        echo "Setting up Supple Snare's environment (first start only) …" >&2
        [ -x "$python" ] || "$base" -m venv "$home" || return 1
        "$python" -m pip install --quiet --disable-pip-version-check --no-warn-script-location \
            -e "$root${extra:+[$extra]}" >&2 || {
            echo "The Python packages could not be installed: see the message above; is the network reachable?" >&2
            return 1
        }
        [ -n "$extra" ] && echo "$extra" >"$home/.extra"
        ensure_system_packages 'import PyQt6.QtWidgets, PyQt6.QtMultimedia, soundfile' "$system_packages" || return 1
        echo "$wanted" >"$stamp"
    fi
}
