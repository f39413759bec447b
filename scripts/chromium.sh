#!/bin/sh
# Installs Debian's Chromium for the browser tests where there is none.
set -eu
for name in chromium chromium-browser google-chrome; do
	if command -v "$name" >/dev/null 2>&1; then
		exit 0
	fi
done
echo "installing chromium for the browser tests"
apt-get update -qq
DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends chromium fonts-dejavu-core >/dev/null
