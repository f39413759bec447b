#!/bin/sh
# Builds the JVM recorder with its offices, and packs it as a Maven repository:
#
#     sh recorders/jvm/build.sh VERSION OUTPUT
#
# A version that is no release's becomes one that is made of the sources, so that one version never means two things. Where Java 17,
# Maven or what Maven has to fetch is missing, target/left-out names it, and nothing is built.
set -u
cd "$(dirname "$0")"
version=$1 output=$2
mkdir -p target
rm -f target/left-out
left_out() {
	echo "the JVM recorder is left out: $1" | tee target/left-out
	exit 0
}
command -v javac >/dev/null || left_out "there is no JDK here; install Java 17 or later"
command -v mvn >/dev/null || left_out "there is no Maven here; install it"
case $version in
v[0-9]*.[0-9]*.[0-9]*-*) release= ;;
v[0-9]*.[0-9]*.[0-9]*) release=${version#v} ;;
*) release= ;;
esac
if [ -z "$release" ]; then
	release=0.1.0-h$(find . -path '*/target' -prune -o -type f -print | LC_ALL=C sort | xargs sha256sum | sha256sum | cut -c1-12)
fi
log=target/build.log
rm -rf "$output"
deploy() {
	mvn -q "$@" deploy -DskipTests "-Drevision=$release" -Dmaven.install.skip=true \
		"-DaltDeploymentRepository=packed::file:$(mkdir -p "$output" && cd "$output" && pwd)" >$log 2>&1
}
# Maven's deploy plugin refuses to write even to a folder where the settings say that Maven is offline. What was resolved by then is in
# the local repository, so that empty settings need no network.
online() {
	grep -q 'Cannot deploy artifacts when Maven is in offline mode' $log || return 1
	echo '<settings/>' >target/online.xml
	deploy -s target/online.xml
}
if ! deploy && ! online; then
	cat $log
	if grep -q -E 'Could not transfer|Unknown host|Could not resolve dependencies.*offline|Connection (refused|timed out)' $log; then
		rm -rf "$output"
		left_out "Maven could not fetch what it needs; see above"
	fi
	exit 1
fi
