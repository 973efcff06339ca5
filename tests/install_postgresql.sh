#!/usr/bin/env bash
# Sees to it that PostgreSQL's programs are on this machine; the tests start a server of their own with them.
set -euo pipefail
if command -v initdb >/dev/null || ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1; then
    exit 0
fi
as_root=""
[ "$(id -u)" = 0 ] || as_root="sudo"
# The package would start a server by itself; the tests want none but their own.
$as_root apt-get update -qq
$as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends postgresql >/dev/null
