#!/usr/bin/env bash
# Sees to it that Chromium, its driver and Node.js are on this machine; the tests look at pages with them.
set -euo pipefail
missing=""
command -v chromium >/dev/null || missing="$missing chromium"
command -v chromedriver >/dev/null || missing="$missing chromium-driver"
command -v npm >/dev/null || missing="$missing nodejs npm"
if [ -z "$missing" ]; then
    exit 0
fi
as_root=""
[ "$(id -u)" = 0 ] || as_root="sudo"
$as_root apt-get update -qq
# shellcheck disable=SC2086 - a list of packages
$as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing >/dev/null
