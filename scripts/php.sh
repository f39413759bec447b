#!/bin/sh
# Installs Debian's PHP with what the recorder's tests need, where it is not there.
set -eu
if command -v php >/dev/null 2>&1 && command -v phpunit >/dev/null 2>&1 && command -v phpcs >/dev/null 2>&1 && command -v composer >/dev/null 2>&1 && [ -f /usr/share/php/Pimple/Psr11/Container.php ] && [ -f /usr/share/php/Illuminate/Container/Container.php ]; then
	exit 0
fi
echo "installing PHP for the tests of its recorder"
apt-get update -qq
DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends php-cli phpunit php-codesniffer composer unzip php-pimple php-psr-container php-illuminate-container >/dev/null
