#!/bin/sh
# Shows the harbour pilot office of another runtime than Go under the service: sound, and with each mistake, on each of its containers.
#
#     sh scripts/demo.sh RUNTIME DATA [--once]
set -eu
runtime=$1 data=$2 once=${3:-}
case $runtime in
node) containers="nest awilix" ;;
jvm) containers="spring osgi" ;;
php) containers="psr psr-worker laravel laravel-worker symfony" ;;
dotnet) containers="default" ;;
*)
	echo "there is no office for RUNTIME=$runtime; there is one for node, for jvm, for php and for dotnet (and for Go, without RUNTIME)" >&2
	exit 2
	;;
esac
# An office that records into a folder, which is followed.
followed() {
	command=$1
	shift
	traces=$(mktemp -d)
	"$@" --folder "$traces"
	[ "$command" = list ] || bin/keenlantern follow "$traces" --once
	rm -rf "$traces"
}
# The office on one of the runtime's containers.
office() {
	container=$1
	shift
	case $runtime in
	node) command=$1 && shift && node recorders/node/dist/office/main.js "$command" --container "$container" "$@" ;;
	dotnet) dotnet recorders/dotnet/office/bin/Release/net10.0/KeenLantern.Office.dll "$@" ;;
	jvm) java -jar "recorders/jvm/office-$container/target/office.jar" "$@" ;;
	php)
		command=$1 && shift
		set -- php recorders/php/office/run.php "$command" --container "${container%-worker}" "$@"
		case $container in
		laravel-worker) "$@" --resident ;; # it sends to the service itself
		*-worker) followed "$command" "$@" --resident ;;
		*) followed "$command" "$@" ;;
		esac
		;;
	esac
}
log=$(mktemp)
bin/keenlantern serve --listen 127.0.0.1:0 --data "$data" >"$log" 2>&1 &
service=$!
trap 'kill $service 2>/dev/null; wait $service; rm -f "$log"' EXIT
until url=$(sed -n 's/.*listens at \([^;]*\);.*/\1/p' "$log") && [ -n "$url" ]; do
	kill -0 $service 2>/dev/null || { cat "$log" >&2; exit 1; }
	sleep 0.1
done
echo "Keen Lantern listens at $url; data in $data"
export KEENLANTERN_SERVER="$url"
for container in $containers; do
	for mistake in none $(office $container list | cut -d' ' -f1); do
		printf '\nThe harbour pilot office on %s, %s\n\n' "$container" "$([ "$mistake" = none ] && echo sound || echo "with the mistake $mistake")"
		office "$container" run --service "$url" --mistake "$mistake" >/dev/null 2>&1
		sleep 1 # until all of it has been analysed, and the next office does not join its recording
		bin/keenlantern findings latest || [ $? -eq 1 ] # something was found
	done
done
echo
echo "The console: $url"
[ "$once" = --once ] || { echo "Ctrl-C ends it."; wait $service; }
