#!/bin/sh
# Packs the recorder for .NET as a NuGet source serves it, all packages in one version:
#
#     sh pack.sh VERSION FOLDER
#
# Without a version that is a release's, the packages get one that is made of what they contain, so that one version never means two
# things: 0.1.0-dev.1f2e3d4c5b6a. Where there is no SDK of .NET, or its packages cannot be fetched, there are none.
set -eu
cd "$(dirname "$0")"
folder=$2
rm -rf "$folder"
command -v dotnet >/dev/null 2>&1 && dotnet --list-sdks | grep -Eq '^[1-9][0-9]\.' || exit 0
sum=$(find src Directory.*.props -type f ! -path '*/bin/*' ! -path '*/obj/*' | LC_ALL=C sort | xargs sha256sum | sha256sum | cut -c 1-12)
case $1 in
v[0-9]*.[0-9]*.[0-9]* | [0-9]*.[0-9]*.[0-9]*) version=$(echo "$1" | sed -n 's/^v\{0,1\}\([0-9]*\.[0-9]*\.[0-9]*\)$/\1/p') ;;
*) version= ;;
esac
version=${version:-0.1.0-dev.$sum}
aside=$(mktemp -d)
trap 'rm -rf "$aside"' EXIT
# Built aside: the tests' own build goes on undisturbed.
for project in $(grep -L "<IsPackable>false" src/*/*.csproj); do
	dotnet restore -v quiet --artifacts-path "$aside/artifacts" "$project" || exit 0
	dotnet pack -c Release --no-restore -v quiet -nologo -p:Version="$version" --artifacts-path "$aside/artifacts" -o "$aside/packages" "$project"
done
for package in "$aside"/packages/*.nupkg; do
	id=$(basename "$package" ".$version.nupkg" | tr '[:upper:]' '[:lower:]')
	mkdir -p "$folder/flat/$id/$version"
	cp "$package" "$folder/flat/$id/$version/$id.$version.nupkg"
	printf '{"versions":["%s"]}\n' "$version" >"$folder/flat/$id/index.json"
done
# What records applications that know nothing of it: all in one folder.
start=src/KeenLantern.Record.Start/KeenLantern.Record.Start.csproj
dotnet restore -v quiet --artifacts-path "$aside/artifacts" "$start" || exit 0
dotnet build -c Release --no-restore -v quiet -nologo -p:Version="$version" -p:GenerateDocumentationFile=false --artifacts-path "$aside/artifacts" -o "$aside/start" "$start"
(cd "$aside/start" && touch -t 200001010000 KeenLantern.*.dll && tar -cf - KeenLantern.*.dll | gzip -n) >"$folder/start.tar.gz"
