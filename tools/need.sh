#!/usr/bin/env bash
# Says what is missing and installs it where it can: used by the Makefile.
#   tools/need.sh build     Rust, a C compiler, Node.js
#   tools/need.sh browser   Chromium and ChromeDriver, for the browser tests and the screenshots
set -euo pipefail

have() { command -v "$1" >/dev/null 2>&1; }

# Debian's packages, where this is Debian and we may.
install() {
    if have apt-get && [ "$(id -u)" = 0 ]; then
        echo "→ installing $*"
        apt-get update -qq
        DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "$@" >/dev/null
    else
        echo "◆ $* missing. Install it (on Debian, as root: apt-get install $*), then run this again." >&2
        exit 1
    fi
}

case "${1:-build}" in
build)
    have cargo || { echo "◆ Rust is missing. Install Rust 1.95 or later (cargo, rustc), then run this again." >&2; exit 1; }
    have cc || install gcc libc6-dev
    have node || install nodejs npm
    have npm || install npm
    major=$(node --version | sed 's/^v\([0-9]*\).*/\1/')
    [ "$major" -ge 20 ] || { echo "◆ Node.js $(node --version) is too old. Install version 20 or later." >&2; exit 1; }
    ;;
browser)
    have chromium || install chromium
    have chromedriver || install chromium-driver
    ;;
*)
    echo "usage: tools/need.sh build|browser" >&2
    exit 2
    ;;
esac
