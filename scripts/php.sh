#!/bin/sh
# Installs Debian's PHP with what the recorder's tests need, where it is not there.
set -eu
libraries="Pimple Illuminate/Foundation/Application.php Symfony/Component/Config Symfony/Component/HttpKernel Symfony/Component/Routing"
there() {
	for program in php phpunit phpcs composer; do command -v $program >/dev/null 2>&1 || return 1; done
	for library in $libraries; do [ -e "/usr/share/php/$library" ] || return 1; done
}
! there || exit 0
echo "installing PHP for the tests of its recorder"
apt-get update -qq
DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends php-cli phpunit php-codesniffer composer unzip php-pimple \
	php-psr-container php-laravel-framework php-symfony-config php-symfony-dependency-injection php-symfony-http-kernel php-symfony-routing >/dev/null
