#!/bin/sh
# Builds the recorder for .NET with its tests. What this machine cannot have is said in the file left-out.
set -eu
cd "$(dirname "$0")"
rm -f left-out
left_out() {
	echo "The recorder for .NET was not tested: $1." >left-out
	exit 0
}
command -v dotnet >/dev/null 2>&1 || left_out "dotnet is not installed"
dotnet --list-sdks | grep -Eq '^[1-9][0-9]\.' || left_out "its tests need the .NET SDK 10"
dotnet restore -v quiet KeenLantern.Record.slnx || left_out "its packages could not be fetched"
dotnet build -c Release --no-restore -v quiet -nologo KeenLantern.Record.slnx
