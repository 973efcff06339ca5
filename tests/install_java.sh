#!/usr/bin/env bash
# Sees to it that Java is on this machine: Spark runs in it.
set -euo pipefail
if command -v java >/dev/null; then
    exit 0
fi
as_root=""
[ "$(id -u)" = 0 ] || as_root="sudo"
$as_root apt-get update -qq
$as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends openjdk-17-jre-headless >/dev/null
