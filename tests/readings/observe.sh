#!/usr/bin/env bash
# Asks real servers how they read odd paths and writes tests/readings/observed.tsv. Needs node, python3, go, ruby, java, php and perl
# from Debian's packages (libtomcat10-embed-java, libjakarta-annotation-api-java, libhttp-daemon-perl, ruby-webrick), and fetches what is in no package.
set -eu
HERE=$(cd "$(dirname "$0")" && pwd)
WORK=$(mktemp -d)
trap 'rm -rf "$WORK"' EXIT
cp "$HERE"/servers/routes.mjs "$WORK"
(cd "$WORK" && npm init -y && npm install --silent express@5.1.0) > /dev/null
python3 -m venv "$WORK/venv" && "$WORK/venv/bin/pip" -q install flask==3.1.0
go build -o "$WORK/mux" "$HERE/servers/mux.go"
javac -cp "/usr/share/java/tomcat10-embed-core.jar:/usr/share/java/jakarta-annotation-api.jar" -d "$WORK" "$HERE"/servers/*.java
python3 "$HERE/observe.py" "$WORK" > "$WORK/observed"
mv "$WORK/observed" "$HERE/observed.tsv"
