#!/bin/sh
# Rebuilds the .NET assemblies of the tests. Needs mcs (Debian: mono-mcs).
set -e
here=$(cd "$(dirname "$0")" && pwd)
out="$here/../../tests/assemblies"
mcs -target:library -deterministic -out:"$out/Wickhost.dll" "$here/Wickhost.cs"
mcs -target:library -deterministic -r:"$out/Wickhost.dll" -out:"$out/Lantern.dll" "$here/Lantern.cs"
